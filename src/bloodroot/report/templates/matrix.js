"use strict";
const data = JSON.parse(document.getElementById("data").textContent);
const SIGNS = { a: "●", d: "◐", s: "▷", x: "·" };
const WORDS = { a: "allow", d: "depends", s: "sign-in", x: "deny" };
const OPENS = ["gained", "widened", "different"], VERDICTS = ["hole", "blocked", "other", "inconclusive", "agree"];
const MARKS = "†‡§¶";
const $ = (id) => document.getElementById(id);
// As a shell takes it for one word.
const word = (text) => (/^[\w@%+=:,.\/-]+$/.test(text) ? text : `'${String(text).replaceAll("'", `'"'"'`)}'`);
const esc = (text) => String(text).replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);
const columns = data.columns, rows = data.rows, words = data.words;
const roomy = columns.length <= 10;
const standing = [...new Set(rows.flatMap((row) => Object.values(row.s).flat()))];
const mark = (number) => MARKS[standing.indexOf(number)] || `(${standing.indexOf(number) + 1})`;
const state = { q: "", area: "", role: "", outcome: "", change: "", fold: new Set(), cell: "", theme: "" };

// What a cell is called in the address: METHOD PATH|ROLE.
const nameOf = (row, column) => `${row.m.split(" ").pop()} ${row.p}|${columns[column]}`;

function outcomeWords(row, column) {
  const letter = row.o[column];
  return row.r[column] ? `if ${words[row.r[column][0]]}` : WORDS[letter];
}

function cellOf(row, column, number) {
  const letter = row.o[column], changed = row.c && row.c[column], seen = row.v && row.v[column];
  const marks = (row.s[column] || []).map(mark).join("");
  let text = SIGNS[letter], kind = letter, label = outcomeWords(row, column);
  if (roomy && row.r[column]) text += ` ${esc(words[row.r[column][0]])}`;
  if (marks) text += `<sup>${esc(marks)}</sup>`;
  if (changed) {
    kind += changed[0] === "answer" ? " changed" : OPENS.includes(changed[0]) ? " changed opens" : " changed closes";
    text = changed[0] === "answer" ? `${text} =` : `${signOf(changed[1])} → ${text}`;
    label = `${changed[0]}: ${changed[1]}, now ${changed[2]}`;
  }
  if (seen) {
    kind += ` ${seen[0]}`;
    text += seen[0] === "agree" ? " ✓" : seen[0] === "inconclusive" ? " ?" : " ✗";
    label += `; observed: ${seen[0]}`;
  }
  return `<td role="gridcell" class="${kind}" tabindex="-1" data-c="${column}" aria-label="${esc(label)}">${text}</td>`;
}

function signOf(text) {
  const first = text.split(/[ ,]/)[0];
  return { allow: SIGNS.a, deny: SIGNS.x, "sign-in": SIGNS.s, if: SIGNS.d }[first] || SIGNS.x;
}

function draw() {
  const head = columns.map((name, c) => `<th role="columnheader" scope="col" data-c="${c}" title="${esc(data.about[c] || "")}"><span>${esc(name)}</span></th>`);
  const parts = [`<table role="grid" aria-label="Who gets in where"><thead role="rowgroup"><tr role="row"><th role="columnheader" scope="col"><span>endpoint</span></th>${head.join("")}<th role="columnheader" scope="col"><span>let in</span></th></tr></thead>`];
  let area = null;
  rows.forEach((row, number) => {
    if (row.a !== area) {
      if (area !== null) parts.push("</tbody>");
      area = row.a;
      parts.push(`<tbody role="rowgroup" data-area="${esc(area)}"><tr role="row" class="area"><th role="rowheader" colspan="${columns.length + 2}" scope="rowgroup"><button type="button" aria-expanded="true">${esc(area)}</button></th></tr>`);
      // On paper, where a table of many columns is rows of their own, the columns are named again at each area.
      if (!roomy) parts.push(`<tr class="printhead" aria-hidden="true"><th></th>${columns.map((name, c) => `<td data-h="${c}" class="total"><span>${esc(name)}</span></td>`).join("")}<td class="total"></td></tr>`);
    }
    const cells = columns.map((_, c) => cellOf(row, c, number));
    const flag = row.n ? ` <span class="flag">${row.n}</span>` : "";
    const about = row.about ? " ~" : "";
    const guards = row.g ? ` <span class="quiet" title="${esc(row.g.map(placeName).join(", "))}">guarded</span>` : "";
    const total = [...row.o].filter((letter) => letter === "a" || letter === "d").length;
    parts.push(`<tr role="row" data-n="${number}"><th role="rowheader" scope="row"${row.t ? ` title="${esc(row.t)}"` : ""}><span class="method">${esc(row.m)}</span> ${esc(row.p)}${about}${flag}${guards}</th>${cells.join("")}<td role="gridcell" class="total">${total}</td></tr>`);
  });
  parts.push(`</tbody><tfoot role="rowgroup"><tr role="row"><th role="rowheader" scope="row">let in, if only sometimes</th>${columns.map((_, c) => `<td role="gridcell" data-c="${c}" class="total"></td>`).join("")}<td role="gridcell" class="total"></td></tr></tfoot></table>`);
  $("sheet").innerHTML = parts.join("");
  $("sheet").classList.toggle("many", !roomy);
}

// With many columns each has a width of its own: a browser need not look at every cell to find it.
function widths() {
  const longest = Math.min(56, Math.max(...rows.map((row) => row.m.length + row.p.length + (row.n ? 6 : 0) + (row.g ? 9 : 0) + (row.about ? 2 : 0))) + 4);
  const each = data.mode === "matrix" ? 34 : 62, first = Math.round(longest * 7.9);
  const shown = state.role ? 1 : columns.length;
  for (const [name, value] of [["first", first], ["cell", state.role ? 90 : each], ["width", first + shown * (state.role ? 90 : each) + 60]]) $("sheet").style.setProperty(`--${name}`, `${value}px`);
}

const placeName = (number) => (number < 0 ? "" : `${data.places[number][0]}:${data.places[number][1]}`);
const lineText = (number) => {
  const [file, line] = data.places[number];
  return ((data.files[file] || {})[line] || "").trim();
};
const haystacks = rows.map((row) =>
  [row.m, row.p, row.t || "", row.l < 0 ? "" : lineText(row.l), ...Object.values(row.r).map((r) => words[r[1]])].join(" ").toLowerCase());

function fits(row, number, wanted) {
  if (state.area && row.a !== state.area) return false;
  if (!wanted.every((word) => haystacks[number].includes(word))) return false;
  const column = columns.indexOf(state.role), some = (test) => (column < 0 ? columns.some((_, c) => test(c)) : test(column));
  if (state.outcome && !some((c) => row.o[c] === state.outcome)) return false;
  if (!state.change) return true;
  if (data.mode === "compare") {
    return some((c) => row.c && row.c[c] && (state.change === "changed" || row.c[c][0] === state.change)) || (state.change === "changed" && Boolean(row.n));
  }
  return some((c) => row.v && row.v[c] && row.v[c][0] === state.change) || (state.change === "unasked" && some((c) => !(row.v && row.v[c])));
}

function filter() {
  const begun = performance.now(), wanted = state.q.toLowerCase().split(/\s+/).filter(Boolean);
  const totals = new Array(columns.length).fill(0);
  let shown = 0;
  for (const body of document.querySelectorAll("#sheet tbody")) {
    const folded = state.fold.has(body.dataset.area), lines = body.rows;
    let here = 0;
    for (let i = roomy ? 1 : 2; i < lines.length; i++) {
      const number = Number(lines[i].dataset.n), row = rows[number], fit = fits(row, number, wanted);
      lines[i].hidden = !fit;
      lines[i].classList.toggle("folded", folded);
      if (fit) {
        here++;
        for (let c = 0; c < columns.length; c++) if (row.o[c] === "a" || row.o[c] === "d") totals[c]++;
      }
    }
    body.hidden = here === 0;
    lines[0].querySelector("button").setAttribute("aria-expanded", String(!folded));
    lines[0].querySelector("button").dataset.count = here;
    shown += here;
  }
  for (const cell of document.querySelectorAll("#sheet tfoot td[data-c]")) cell.textContent = totals[cell.dataset.c];
  const column = columns.indexOf(state.role);
  widths();
  $("columns").textContent = column < 0 ? "" : `#sheet [data-c]:not([data-c="${column}"]), #sheet [data-h]:not([data-h="${column}"]) { display: none; }`;
  $("count").textContent = `${shown} of ${rows.length} endpoints`;
  document.body.dataset.filterms = String(Math.round(performance.now() - begun));
  rove();
}

// One cell can be reached with the Tab key; from there arrows lead to the others.
function rove(to) {
  const current = document.querySelector('#sheet td[tabindex="0"]');
  const shows = (cell) => cell && cell.isConnected && !cell.closest("tr").hidden && !cell.closest("tr.folded") && !cell.closest("tbody").hidden && (!state.role || columns[cell.dataset.c] === state.role);
  const next = to || (shows(current) ? current : document.querySelector(`#sheet tbody:not([hidden]) tr:not([hidden]):not(.folded) td[data-c${state.role ? `="${columns.indexOf(state.role)}"` : ""}]`));
  if (current && current !== next) current.tabIndex = -1;
  if (next) next.tabIndex = 0;
  if (to) { to.focus(); to.scrollIntoView({ block: "nearest", inline: "nearest" }); }
}

function move(cell, key, far) {
  const column = cell.dataset.c, tr = cell.closest("tr");
  if (key === "ArrowLeft" || key === "ArrowRight" || (!far && (key === "Home" || key === "End"))) {
    const inRow = [...tr.querySelectorAll("td[data-c]")].filter((each) => !state.role || columns[each.dataset.c] === state.role);
    const at = inRow.indexOf(cell);
    return { ArrowLeft: inRow[at - 1], ArrowRight: inRow[at + 1], Home: inRow[0], End: inRow[inRow.length - 1] }[key];
  }
  const inColumn = [...document.querySelectorAll(`#sheet tbody:not([hidden]) tr:not([hidden]):not(.folded) td[data-c="${column}"]`)];
  const at = inColumn.indexOf(cell), last = inColumn.length - 1;
  const to = { ArrowUp: at - 1, ArrowDown: at + 1, PageUp: Math.max(0, at - 15), PageDown: Math.min(last, at + 15), Home: 0, End: last }[key];
  return inColumn[to];
}

function explain(row, column) {
  const letter = row.o[column], detail = row.r[column] ? words[row.r[column][1]] : "";
  const out = [`<button type="button" class="close">Close</button><h3 id="whytitle">${esc(columns[column])} <code>${esc(row.m)} ${esc(row.p)}</code></h3>`];
  out.push(`<p><b class="${letter}">${SIGNS[letter]} ${esc(row.n === "gone" && row.l < 0 ? "closed now" : detail ? `depends: if ${detail}` : WORDS[letter])}</b>`);
  const asks = (row.s[column] || []).map((number) => words[number]);
  if (asks.length) out.push(`, while ${esc(asks.join(" and "))} holds`);
  out.push("</p>");
  const changed = row.c && row.c[column];
  if (changed) {
    out.push(`<h4>What changes</h4><table><tr><th scope="row">${esc(data.old)}</th><td>${esc(changed[1])}</td></tr><tr><th scope="row">${esc(data.new)}</th><td>${esc(changed[2])}</td></tr></table>`);
    if (changed[3]) out.push(`<pre class="command">${esc(changed[3])}</pre><p class="quiet">${esc(changed[4])}</p>`);
  }
  const seen = row.v && row.v[column];
  if (data.mode === "observed") {
    out.push("<h4>Declared and observed</h4>");
    if (!seen) out.push('<p class="quiet">The probe asked nothing here.</p>');
    else out.push(`<table><tr><th scope="col">request</th><th scope="col">declared</th><th scope="col">observed</th></tr>${seen[1].map((each) => `<tr><td><code>${esc(each[1])}</code> ${esc(each[2])}${data.personas ? "" : ` as ${esc(each[0])}`}</td><td>${esc(outcomeWords(row, column))}</td><td>${esc(each[4])}: <b>${esc(each[3] === "other" ? "refused otherwise" : each[3])}</b></td></tr>`).join("")}</table>`);
  }
  if (row.w.length) {
    out.push("<h4>Steps</h4><ol>");
    for (const number of data.whys[row.w[column]]) {
      const [name, verdict, text, held, place] = data.steps[number], has = held < 0 ? "" : `; the caller has ${words[held]}`;
      out.push(`<li>${{ passed: "✓", refused: "✗", open: "?" }[verdict]} <b>${esc(name)}</b>: ${esc(words[text] + has)}${place < 0 ? "" : `<code class="place">${esc(placeName(place))}  ${esc(lineText(place))}</code>`}</li>`);
    }
    out.push("</ol>");
  }
  if (row.l >= 0) {
    const [file, line] = data.places[row.l], text = data.files[file] || {};
    const numbers = Object.keys(text).map(Number).filter((each) => Math.abs(each - line) <= 3).sort((one, other) => one - other);
    out.push(`<h4>${esc(file)}</h4><pre tabindex="0">${numbers.map((each) => { const code = `${String(each).padStart(4)}  ${esc(text[each].replace(/(\S) {3,}/g, "$1   "))}`; return each === line ? `<b>${code}</b>` : code; }).join("\n")}</pre>`);
  }
  const path = row.p.replace(/\{[^}]*\}/g, "x").replace(/\*+/g, "x"), method = row.m.split(" ")[0];
  out.push(`<h4>Ask again</h4><pre class="command">bloodroot why ${esc(word(columns[column]))} ${esc(word(method === "any" ? "GET" : method))} ${esc(word(path))}</pre>`);
  return out.join("");
}

let chosen = null;
function choose(cell, keep) {
  if (chosen) chosen.classList.remove("chosen");
  chosen = cell;
  const panel = $("why");
  panel.hidden = !cell;
  state.cell = "";
  if (cell) {
    const row = rows[cell.closest("tr").dataset.n], column = Number(cell.dataset.c);
    cell.classList.add("chosen");
    state.cell = nameOf(row, column);
    panel.innerHTML = explain(row, column);
    panel.querySelector(".close").onclick = () => { const back = chosen; choose(null); if (back) rove(back); };
    if (!keep) panel.focus();
  }
  save();
}

function find(name) {
  const [endpoint, role] = name.split("|"), column = columns.indexOf(role);
  const number = rows.findIndex((row) => `${row.m.split(" ").pop()} ${row.p}` === endpoint || row.m.split(" ").some((method) => `${method} ${row.p}` === endpoint));
  return number < 0 ? null : document.querySelector(`#sheet tr[data-n="${number}"] td[data-c="${Math.max(column, 0)}"]`);
}

function save() {
  const said = new URLSearchParams();
  for (const key of ["q", "area", "role", "outcome", "change", "cell", "theme"]) if (state[key]) said.set(key, state[key]);
  // What changes is what a comparison is looked at for, so that everything has to be asked for.
  if (data.mode === "compare" && !state.change) said.set("change", "any");
  if (state.fold.size) said.set("fold", [...state.fold].join(","));
  history.replaceState(null, "", said.toString() ? `#${said}` : location.pathname + location.search);
}

function load() {
  const said = new URLSearchParams(location.hash.slice(1));
  for (const key of ["q", "area", "role", "outcome", "change", "theme"]) state[key] = said.get(key) || "";
  if (data.mode === "compare") state.change = { "": rows.some((row) => row.c || row.n) ? "changed" : "", any: "" }[state.change] ?? state.change;
  state.fold = new Set((said.get("fold") || "").split(",").filter(Boolean));
  for (const key of ["q", "area", "role", "outcome", "change"]) { $(key).value = state[key]; if ($(key).value !== state[key]) state[key] = $(key).value = ""; }
  dress();
  const wanted = said.get("cell");
  const cell = wanted ? find(wanted) : null;
  if (cell) {
    // A link to a cell shows it, whatever else it says.
    state.fold.delete(rows[cell.closest("tr").dataset.n].a);
    filter();
    if (cell.closest("tr").hidden || cell.closest("tbody").hidden) { for (const key of ["q", "area", "role", "outcome", "change"]) state[key] = $(key).value = ""; filter(); }
    choose(cell, true);
    rove(cell);
  } else { filter(); choose(null); }
}

function dress() {
  const dark = state.theme ? state.theme === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = dark ? "dark" : "light";
  $("theme").textContent = dark ? "Light" : "Dark";
}

// The table, its heading and what is below it fit into the window together.
function measure() {
  const rest = $("tools").offsetHeight + $("legend").offsetHeight + 64;
  document.documentElement.style.setProperty("--room", `${Math.max(240, innerHeight - rest)}px`);
}

function begin() {
  const begun = performance.now();
  const style = document.createElement("style");
  style.id = "columns";
  document.head.append(style);
  const option = (value, text) => { const made = document.createElement("option"); made.value = value; made.textContent = text; return made; };
  for (const area of new Set(rows.map((row) => row.a))) $("area").append(option(area, area));
  for (const name of columns) $("role").append(option(name, name));
  if (data.mode !== "matrix") {
    $("changewrap").hidden = false;
    const found = new Set(rows.flatMap((row) => data.mode === "compare" ? Object.values(row.c || {}).map((each) => each[0]) : Object.values(row.v || {}).map((each) => each[0])));
    if (data.mode === "compare") $("change").append(option("changed", "changed"));
    for (const each of found) $("change").append(option(each, each));
    if (data.mode === "observed") { $("change").append(option("unasked", "not asked")); $("changewrap").firstChild.textContent = "Observed "; }
  }
  draw();
  const marks = standing.map((number) => `${mark(number)} <b>and always ${esc(words[number])}</b>`);
  $("legend").innerHTML = [...Object.keys(SIGNS).map((letter) => `${SIGNS[letter]} <b>${letter === "d" ? "depends on the condition named" : letter === "s" ? "sign in first" : WORDS[letter]}</b>`), ...marks,
    ...(rows.some((row) => row.about) ? ["~ <b>about: the path cannot be written in a policy, and what it serves decides</b>"] : []),
    "Keys: <b>arrows move, Enter explains, Esc closes, / finds</b>"].join(" &nbsp; ");
  for (const key of ["q", "area", "role", "outcome", "change"]) $(key).addEventListener(key === "q" ? "input" : "change", () => { state[key] = $(key).value; filter(); save(); });
  $("tools").addEventListener("submit", (event) => event.preventDefault());
  $("fold").onclick = () => { state.fold = new Set(rows.map((row) => row.a)); filter(); save(); };
  $("unfold").onclick = () => { state.fold = new Set(); filter(); save(); };
  $("theme").onclick = () => { state.theme = document.documentElement.dataset.theme === "dark" ? "light" : "dark"; dress(); save(); };
  $("sheet").addEventListener("click", (event) => {
    const button = event.target.closest("tr.area button"), cell = event.target.closest("td[data-c]");
    if (button) {
      const area = button.closest("tbody").dataset.area;
      if (!state.fold.delete(area)) state.fold.add(area);
      filter(); save();
    } else if (cell && cell.closest("tbody")) { rove(cell); choose(cell, true); }
  });
  $("sheet").addEventListener("keydown", (event) => {
    const cell = event.target.closest("tbody td[data-c]");
    if (!cell) return;
    if (event.key === "Enter" || event.key === " ") { event.preventDefault(); choose(cell); return; }
    if (!["ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown", "Home", "End", "PageUp", "PageDown"].includes(event.key)) return;
    event.preventDefault();
    const next = move(cell, event.key, event.ctrlKey);
    if (next) rove(next);
  });
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape" && !$("why").hidden) { const back = chosen; choose(null); if (back) rove(back); }
    if (event.key === "/" && !/INPUT|SELECT|TEXTAREA/.test(document.activeElement.tagName)) { event.preventDefault(); $("q").focus(); }
  });
  addEventListener("hashchange", load);
  addEventListener("resize", measure);
  measure();
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", dress);
  load();
  document.body.dataset.drawms = String(Math.round(performance.now() - begun));
}
begin();
