import type { IncomingMessage, ServerResponse } from "node:http";

export interface Subject {
  type: "user" | "anonymous";
  id: string;
  properties?: Record<string, unknown>;
}

export interface Question {
  subject?: Subject;
  action?: { name: string };
  resource?: { type: string; id: string; properties?: Record<string, unknown> };
  context?: Record<string, unknown>;
}

export interface Answer {
  decision: boolean;
  context: {
    reason?: string;
    message?: string;
    status?: number;
    location?: string;
    line?: string;
    remainder?: string;
    error?: { status: number; message: string };
    [name: string]: unknown;
  };
}

export declare class Decisions {
  constructor(options: { url: string; token: string; timeout?: number });
  ask(question: Question): Promise<Answer>;
  askAll(questions: Question[], common?: Question): Promise<Answer[]>;
}

export declare function enforced(
  decisions: Decisions,
  subjectOf: (request: IncomingMessage) => Subject | null | Promise<Subject | null>,
): (request: IncomingMessage, response: ServerResponse, next: () => void) => Promise<void>;
