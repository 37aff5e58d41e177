/** Asks a decision service (OpenID AuthZEN Authorization API 1.0). Whatever goes wrong is a denial. */

/** The service that answers. */
export class Decisions {
  #url;
  #token;
  #timeout;

  /**
   * @param {object} options
   * @param {string} options.url what the service is called, such as http://127.0.0.1:8180
   * @param {string} options.token the secret of this asker
   * @param {number} [options.timeout] milliseconds to wait for an answer
   */
  constructor({ url, token, timeout = 2000 }) {
    this.#url = url.replace(/\/$/, "");
    this.#token = token;
    this.#timeout = timeout;
  }

  /** The answer to one question: `{ decision, context }`. It never throws. */
  async ask(question) {
    const answer = await this.#send("evaluation", question);
    return read(answer);
  }

  /** The answers to several questions, in their order; `common` is what they have in common. It never throws. */
  async askAll(questions, common = {}) {
    if (questions.length === 0) return [];
    const answer = await this.#send("evaluations", { ...common, evaluations: questions });
    const answers = Array.isArray(answer?.evaluations) ? answer.evaluations : [];
    // One that is missing, or one too many, says that these are not the answers to these questions.
    return questions.map((_, place) => read(answers.length === questions.length ? answers[place] : answer));
  }

  async #send(name, body) {
    try {
      const response = await fetch(`${this.#url}/access/v1/${name}`, {
        method: "POST",
        headers: { Authorization: `Bearer ${this.#token}`, "Content-Type": "application/json" },
        body: JSON.stringify(body),
        redirect: "error",
        signal: AbortSignal.timeout(this.#timeout),
      });
      if (response.status !== 200) return failed(`the service answers ${response.status}`);
      return await response.json();
    } catch (error) {
      return failed(`the service cannot be asked: ${error.cause?.code ?? error.name}`);
    }
  }
}

function failed(message) {
  return { decision: false, context: { error: { status: 503, message } } };
}

function read(answer) {
  if (typeof answer?.decision !== "boolean") return failed("the answer cannot be read");
  return { decision: answer.decision, context: answer.context ?? {} };
}

/**
 * Middleware for `node:http` and what is like it: `(request, response, next)`, which asks about each request by its
 * method and its address as it was sent.
 *
 * @param {Decisions} decisions the service
 * @param {(request) => object | null | Promise<object | null>} subjectOf who is calling, as
 *   `{ type: "user", id, properties }`; null for a signed-out caller
 */
export function enforced(decisions, subjectOf) {
  return async (request, response, next) => {
    let answer;
    try {
      const subject = (await subjectOf(request)) ?? { type: "anonymous", id: "-" };
      answer = await decisions.ask({
        subject,
        action: { name: request.method },
        resource: { type: "endpoint", id: request.originalUrl ?? request.url },
      });
    } catch {
      answer = failed("who is calling cannot be found out");
    }
    if (answer.decision) return next();
    const { status = answer.context.error?.status === 503 ? 503 : 403, message = "Refused.", location } = answer.context;
    response.statusCode = status;
    if (location) response.setHeader("Location", location);
    if (status === 401) response.setHeader("WWW-Authenticate", "Bearer");
    response.setHeader("Content-Type", "text/plain; charset=utf-8");
    response.setHeader("Cache-Control", "no-store");
    response.end(`${message}\n`);
  };
}
