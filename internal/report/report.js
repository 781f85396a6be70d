"use strict";
(() => {
  const index = JSON.parse(document.getElementById("index").textContent);
  const outcomes = index.outcomes, steps = index.steps;
  const signs = { "passed": "•", "not run": "·" };
  const sign = outcome => signs[outcome] || "✗";
  // Everything that came from outside is set as text, never as markup.
  const make = (name, attributes, ...inside) => {
    const e = document.createElement(name);
    for (const [key, value] of Object.entries(attributes || {}))
      if (key === "class") e.className = value; else if (value !== undefined) e.setAttribute(key, value);
    for (const child of inside) if (child !== undefined && child !== "") e.append(typeof child === "object" ? child : clean(String(child)));
    return e;
  };
  const clean = text => text.replace(/[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/g, "\ufffd");
  const kind = outcome => outcome.replace(/ /g, "-");
  const of = i => { const s = steps[i]; return { sheet: index.sheets[s[0]], row: s[1], name: s[2], target: s[3], status: s[4], ms: s[5], outcome: outcomes[s[6]], checks: s[7] }; };
  const chunks = document.querySelectorAll("script.details"), lines = [], inChunk = 128;
  const detailText = i => {
    const n = Math.floor(i / inChunk);
    if (!lines[n]) lines[n] = chunks[n] ? chunks[n].textContent.split("\n") : [];
    return lines[n][i % inChunk] || "";
  };

  // The filter.
  const find = document.getElementById("find"), sheet = document.getElementById("sheet"), shown = document.getElementById("shown");
  index.sheets.forEach((name, i) => sheet.append(make("option", { value: i }, name)));
  const boxes = outcomes.map((outcome, i) => {
    const n = steps.reduce((sum, s) => sum + (s[6] === i ? 1 : 0), 0);
    const box = make("input", { type: "checkbox" });
    box.checked = true;
    document.getElementById("outcomes").append(make("label", { class: kind(outcome) }, box, sign(outcome) + " " + outcome + " (" + n + ")"));
    return box;
  });
  const lower = [];
  const texts = i => lower[i] || (lower[i] = (steps[i].slice(1, 5).join(" ") + " " + detailText(i)).toLowerCase());
  // In the data, signs that mean something to a page are written as \u003c and so on.
  const asWritten = text => JSON.stringify(text.toLowerCase()).slice(1, -1).replace(/[<>&]/g, c => "\\u00" + c.charCodeAt(0).toString(16));
  let chosen = [], upTo = 0;
  const page = 200;
  const list = document.getElementById("list"), more = document.getElementById("more");
  const apply = () => {
    const expected = find.value.trim().toLowerCase(), written = asWritten(find.value.trim());
    const open = boxes.map(box => box.checked);
    chosen = [];
    for (let i = 0; i < steps.length; i++) {
      if (!open[steps[i][6]] || sheet.value !== "" && steps[i][0] !== +sheet.value) continue;
      if (expected && !texts(i).includes(expected) && !texts(i).includes(written)) continue;
      chosen.push(i);
    }
    list.replaceChildren();
    upTo = 0;
    lastRow = null;
    shown.textContent = chosen.length === steps.length ? steps.length + (steps.length === 1 ? " step" : " steps") : chosen.length + " of " + steps.length + " steps";
    next();
  };
  let lastRow = null;
  const next = () => {
    const to = Math.min(upTo + page, chosen.length), part = document.createDocumentFragment();
    for (; upTo < to; upTo++) {
      const s = of(chosen[upTo]), row = s.sheet + "\n" + s.row;
      if (row !== lastRow) part.append(make("div", { class: "row" }, s.sheet + (s.row ? " · " + s.row : "")));
      lastRow = row;
      part.append(line(chosen[upTo], s));
    }
    list.append(part);
    more.hidden = upTo >= chosen.length;
    more.textContent = "show " + Math.min(page, chosen.length - upTo) + " more of " + (chosen.length - upTo);
  };
  more.addEventListener("click", () => {
    const first = list.children.length;
    next();
    const button = list.children[first] && list.children[first].querySelector("button");
    if (button) button.focus();
  });
  let pause;
  find.addEventListener("input", () => { clearTimeout(pause); pause = setTimeout(apply, 120); });
  // Leaving the search field changes nothing: what is clicked then must not be laid out anew.
  document.getElementById("filter").addEventListener("change", e => { if (e.target !== find) apply(); });
  document.getElementById("filter").addEventListener("submit", e => { e.preventDefault(); apply(); });

  const line = (i, s) => {
    const button = make("button", { type: "button", "aria-expanded": "false", "aria-controls": "detail-" + i },
      make("span", {}, s.name), make("span", { class: "mono target" }, s.target), make("span", { class: "number" }, s.status || ""),
      make("span", { class: "number" }, s.ms ? s.ms.toFixed(1) + " ms" : ""),
      make("span", { class: kind(s.outcome) }, sign(s.outcome) + " " + s.outcome + (s.checks ? " · " + s.checks + (s.checks === 1 ? " check" : " checks") : "")));
    const e = make("div", { class: "step", id: "step-" + i }, button);
    button.addEventListener("click", () => toggle(e, i));
    return e;
  };
  const toggle = (e, i, open) => {
    const button = e.firstChild, isOpen = button.getAttribute("aria-expanded") === "true";
    if (open === isOpen) return;
    button.setAttribute("aria-expanded", String(!isOpen));
    if (isOpen) { e.lastChild.remove(); return; }
    e.append(make("div", { class: "detail", id: "detail-" + i }, detail(i)));
  };

  // What stands after a step.
  const detail = i => {
    const text = detailText(i), out = document.createDocumentFragment();
    if (!text) {
      out.append(make("p", { class: "quiet" }, "The exchanges of this step were not recorded in full."));
      return out;
    }
    const d = JSON.parse(text);
    for (const word of [d.about, d.reason, d.response]) if (word) out.append(make("p", { class: "said" }, word));
    for (const hint of d.hints || []) out.append(make("p", { class: "hint" }, make("b", {}, "Try: "), hint));
    if (d.checks) {
      const body = make("tbody");
      for (const [subject, expected, got, verdict, where, note] of d.checks)
        body.append(make("tr", {}, make("th", { scope: "row" }, subject), make("td", {}, expected), make("td", {}, got + (where ? " at " + where : ""), note ? make("br") : "", note),
          make("td", { class: kind(verdict) }, sign(verdict === "not judged" ? "not run" : verdict) + " " + verdict)));
      out.append(make("div", { class: "wide" }, make("table", {}, make("thead", {}, make("tr", {}, ...["check", "expected", "got", "outcome"].map(h => make("th", { scope: "col" }, h)))), body)));
    }
    if (d.got) out.append(make("p", { class: "mono" }, "found: " + d.got));
    if (d.kept) out.append(make("p", { class: "quiet" }, "kept: " + d.kept.join(", ")));
    for (const note of d.notes || []) out.append(make("p", { class: "quiet" }, "note: " + note));
    for (const [title, exchanges] of [["to get in", d.logins], ["", d.exchanges]])
      for (const x of exchanges || []) out.append(exchange(title, x));
    return out;
  };
  const exchange = (title, x) => {
    const out = make("div", {});
    if (x.request) {
      out.append(make("p", { class: "mono" }, title ? make("b", {}, title + ": ") : "", make("b", {}, "sent "), x.request));
      if (x.head || x.body) out.append(message(x.head, x.body));
    }
    if (x.failure) out.append(make("p", { class: "unreachable" }, x.failure));
    if (x.answer) {
      out.append(make("p", { class: "mono" }, make("b", {}, "received "), x.answer));
      if (x.took || x.tls) out.append(make("p", { class: "quiet" }, [x.took, x.tls].filter(Boolean).join(" · ")));
      out.append(message(x.answerHead, x.answerBody));
    }
    for (const note of x.notes || []) out.append(make("p", { class: "quiet" }, "note: " + note));
    return out;
  };
  const message = (head, body) => {
    const pre = make("pre", { tabindex: "0" }, make("span", { class: "quiet" }, head || ""));
    if (body) pre.append("\n\n", ...coloured(clean(body)));
    return pre;
  };
  // JSON is told apart by kind of value; anything else stays as it is.
  const coloured = text => {
    if (!/^\s*[[{]/.test(text) || text.length > 200000) return [text];
    const parts = [], token = /("(?:[^"\\]|\\.)*")(\s*:)?|\b(?:true|false|null)\b|-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?/g;
    let at = 0;
    for (const m of text.matchAll(token)) {
      parts.push(text.slice(at, m.index), make("span", { class: m[2] ? "key" : m[1] ? "text" : "value" }, m[1] || m[0]), m[2] || "");
      at = m.index + m[0].length;
    }
    parts.push(text.slice(at));
    return parts;
  };

  // A way to a step from anywhere.
  const show = i => {
    if (!chosen.includes(i)) {
      find.value = ""; sheet.value = "";
      boxes.forEach(box => { box.checked = true; });
      apply();
    }
    while (upTo < chosen.length && !document.getElementById("step-" + i)) next();
    const e = document.getElementById("step-" + i);
    if (!e) return;
    toggle(e, i, true);
    e.scrollIntoView({ block: "start" });
    e.firstChild.focus({ preventScroll: true });
  };
  const follow = () => { const m = /^#step-(\d+)$/.exec(location.hash); if (m && +m[1] < steps.length) show(+m[1]); };
  addEventListener("hashchange", follow);
  document.addEventListener("click", e => {
    const a = e.target.closest && e.target.closest('a[href^="#step-"]');
    if (a && a.getAttribute("href") === location.hash) { e.preventDefault(); follow(); }
  });

  // Rows as a grid: a line a row, a column a step. One stop for the tabulator; arrows go on.
  const mostInGrid = 500, mostColumns = 40;
  const grids = document.getElementById("grids");
  index.sheets.forEach((name, n) => {
    const rows = new Map(), columns = new Map();
    steps.forEach((s, i) => {
      if (s[0] !== n) return;
      if (!rows.has(s[1])) rows.set(s[1], new Map());
      const row = rows.get(s[1]);
      if (!columns.has(s[2])) columns.set(s[2], columns.size);
      const before = row.get(s[2]);
      if (before === undefined || outcomes[s[6]] !== "passed") row.set(s[2], i);
    });
    if (rows.size < 2) return;
    const names = [...columns.keys()].slice(0, mostColumns);
    const body = make("tbody");
    let first = true, count = 0;
    // What failed is looked for first.
    const fails = cells => [...cells.values()].some(i => !signs[outcomes[steps[i][6]]]);
    const ordered = [...rows].map(one => [fails(one[1]) ? 0 : 1, one]).sort((a, b) => a[0] - b[0]).map(one => one[1]);
    for (const [row, cells] of ordered) {
      if (++count > mostInGrid) break;
      const tr = make("tr", {}, make("th", { scope: "row" }, row || "the sheet"));
      for (const column of names) {
        const i = cells.get(column), td = make("td");
        if (i !== undefined) {
          const s = of(i);
          const button = make("button", { type: "button", class: kind(s.outcome), "data-step": i, tabindex: first ? "0" : "-1", title: column + ", " + (row || "the sheet") + ": " + s.outcome, "aria-label": column + ", " + (row || "the sheet") + ": " + s.outcome }, sign(s.outcome));
          first = false;
          td.append(button);
        }
        tr.append(td);
      }
      body.append(tr);
    }
    const table = make("table", {}, make("thead", {}, make("tr", {}, make("th", { scope: "col" }, "row"), ...names.map(c => make("th", { scope: "col" }, c)))), body);
    grids.append(make("h3", {}, name, make("span", { class: "quiet" }, " by rows and steps" + (rows.size > mostInGrid ? ", the first " + mostInGrid + " of " + rows.size : ""))),
      make("div", { class: "grid" }, table));
    table.addEventListener("click", e => { const b = e.target.closest("button"); if (b) { location.hash = "step-" + b.dataset.step; show(+b.dataset.step); } });
    table.addEventListener("keydown", e => {
      const move = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[e.key], b = e.target.closest("button");
      if (!move || !b) return;
      e.preventDefault();
      let td = b.parentElement, tr = td.parentElement;
      for (;;) {
        if (move[0]) { const at = td.cellIndex; tr = move[0] > 0 ? tr.nextElementSibling : tr.previousElementSibling; td = tr && tr.cells[at]; }
        else td = move[1] > 0 ? td.nextElementSibling : td.previousElementSibling;
        if (!td) return;
        const to = td.querySelector("button");
        if (to) { b.tabIndex = -1; to.tabIndex = 0; to.focus(); return; }
      }
    });
  });

  apply();
  follow();
})();
