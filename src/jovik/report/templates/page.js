// Tables sort on their headings: by the key that a cell carries, else by its text.
"use strict";
// The page's own words in its language.
const words = JSON.parse(document.body.dataset.words || "{}");
const say = (english, filled = {}) => Object.entries(filled).reduce((text, [name, value]) => text.replace(`{${name}}`, value), words[english] || english);
for (const table of document.querySelectorAll("table.sorts")) {
  const body = table.tBodies[0];
  const headings = [...table.tHead.rows[0].cells];
  headings.forEach((heading, column) => {
    if (heading.tagName !== "TH") return;
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = heading.textContent;
    heading.replaceChildren(button);
    button.addEventListener("click", () => {
      const down = heading.getAttribute("aria-sort") === "ascending";
      headings.forEach((other) => other.removeAttribute("aria-sort"));
      heading.setAttribute("aria-sort", down ? "descending" : "ascending");
      const value = (row) => row.cells[column];
      const rows = [...body.rows].sort((one, two) => {
        const [a, b] = [value(one), value(two)];
        const [x, y] = [a.dataset.key, b.dataset.key];
        // What has no figure comes last whichever way it is sorted.
        if ((x === undefined) !== (y === undefined)) return x === undefined ? 1 : -1;
        const order = x !== undefined ? Number(x) - Number(y) : a.textContent.localeCompare(b.textContent, document.documentElement.lang, { numeric: true });
        return down ? -order : order;
      });
      body.replaceChildren(...rows);
    });
  });
}

// Charts answer: what a point says on pointing, touching and by the arrow keys; lines are switched on and off, ways of
// looking are chosen, a long one is looked at closely; and the address of the page keeps all of it.
for (const chart of document.querySelectorAll("figure.chart")) {
  const said = chart.querySelector(".said");
  const drawings = [...chart.querySelectorAll(":scope > svg")];
  const state = { view: 0, off: new Set(), from: 0, to: 1, here: null };
  const views = (chart.dataset.views || "").split("|").filter(Boolean);
  const shown = (element) => element.getClientRects().length > 0;
  const points = () => [...chart.querySelectorAll("[data-said]")].filter(shown);

  const ask = (point) => {
    if (state.here) state.here.classList.remove("here");
    state.here = point;
    if (point) point.classList.add("here");
    said.textContent = point ? point.dataset.said : "";
  };
  for (const drawing of drawings) {
    drawing.setAttribute("tabindex", "0");
    drawing.addEventListener("pointermove", (event) => {
      const far = (point) => {
        const box = point.getBoundingClientRect();
        const [dx, dy] = [event.clientX - (box.left + box.right) / 2, event.clientY - (box.top + box.bottom) / 2];
        return point.tagName === "g" ? Math.abs(dy) * 9 + Math.abs(dx) / 99 : dx * dx * 4 + dy * dy;
      };
      const every = points();
      if (every.length) ask(every.reduce((a, b) => (far(b) < far(a) ? b : a)));
    });
    drawing.addEventListener("pointerdown", () => drawing.focus({ preventScroll: true }));
    drawing.addEventListener("keydown", (event) => {
      const every = points();
      const at = every.indexOf(state.here);
      const line = (point) => point && point.dataset.line === undefined ? point.parentNode : point;
      const next = { ArrowRight: at + 1, ArrowLeft: at - 1, Home: 0, End: every.length - 1 }[event.key];
      if (next !== undefined) ask(every[Math.min(Math.max(next, 0), every.length - 1)]);
      else if (event.key === "ArrowDown" || event.key === "ArrowUp") {
        const lines = [...new Set(every.map(line))];
        const now = lines.indexOf(line(state.here)) + (event.key === "ArrowDown" ? 1 : -1);
        const wanted = lines[Math.min(Math.max(now, 0), lines.length - 1)];
        ask(every.find((point) => line(point) === wanted));
      } else if (event.key === "Escape") ask(null);
      else return;
      event.preventDefault();
    });
  }

  const link = document.createElement("a");
  const draw = () => {
    chart.querySelectorAll(".view").forEach((g) => g.classList.toggle("off", views.length > 1 && g.dataset.view !== views[state.view]));
    chart.querySelectorAll("svg [data-line]").forEach((g) => g.classList.toggle("gone", state.off.has(g.dataset.line)));
    const width = state.to - state.from;
    chart.querySelectorAll("svg.plot").forEach((plot) => plot.setAttribute("viewBox", `${1000 * state.from} 0 ${1000 * width} 1000`));
    for (const drawing of drawings) {
      const plot = drawing.querySelector("svg.plot");
      if (!plot) continue;
      const [left, room] = [Number(plot.getAttribute("x")), Number(plot.getAttribute("width"))];
      for (const mark of drawing.querySelectorAll("[data-x]")) {
        const share = (Number(mark.dataset.x) - state.from) / width;
        mark.classList.toggle("gone", share < -0.001 || share > 1.001);
        mark.setAttribute(mark.tagName === "circle" ? "cx" : "x", (left + room * share).toFixed(1));
      }
      drawing.querySelectorAll(".word").forEach((word) => word.classList.toggle("gone", width < 1));
    }
    buttons.forEach(([button, pressed]) => pressed && button.setAttribute("aria-pressed", String(pressed())));
    const parts = [];
    if (state.view) parts.push(`view=${state.view}`);
    if (state.off.size) parts.push(`off=${[...state.off].join("+")}`);
    if (width < 1) parts.push(`from=${state.from.toFixed(3)}&to=${state.to.toFixed(3)}`);
    link.hidden = !parts.length;
    link.href = `#${chart.id}?${parts.join("&")}`;
    ask(null);
  };
  const buttons = [];
  const button = (words, act, pressed) => {
    const made = document.createElement("button");
    made.type = "button";
    made.textContent = words;
    made.addEventListener("click", () => { act(); draw(); });
    buttons.push([made, pressed]);
    return made;
  };
  chart.querySelectorAll(".keys li").forEach((key) => {
    const number = key.dataset.line;
    const flip = () => (state.off.has(number) ? state.off.delete(number) : state.off.add(number));
    key.replaceChildren(button(key.textContent, flip, () => !state.off.has(number)));
  });
  const ways = document.createElement("div");
  ways.className = "ways";
  views.forEach((name, n) => ways.append(button(name, () => { state.view = n; }, () => state.view === n)));
  const look = (by, aside) => {
    const width = Math.min(Math.max((state.to - state.from) * by, 0.02), 1);
    const middle = (state.from + state.to) / 2 + aside * (state.to - state.from);
    state.from = Math.min(Math.max(middle - width / 2, 0), 1 - width);
    state.to = state.from + width;
  };
  if ("zooms" in chart.dataset) {
    ways.append(button(say("closer"), () => look(0.5, 0)), button(say("farther"), () => look(2, 0)));
    ways.append(button(say("earlier"), () => look(1, -0.4)), button(say("later"), () => look(1, 0.4)));
  }
  link.textContent = say("link to this view");
  ways.append(link);
  drawings[0].before(ways);
  const [id, asked] = decodeURIComponent(location.hash.slice(1)).split("?");
  if (id === chart.id && asked) {
    const wanted = new URLSearchParams(asked.replaceAll("+", "%2B"));
    state.view = Math.min(Math.max(Number(wanted.get("view")) || 0, 0), Math.max(views.length - 1, 0));
    (wanted.get("off") || "").split("+").filter(Boolean).forEach((n) => state.off.add(n));
    const [from, to] = [Number(wanted.get("from") || 0), Number(wanted.get("to") || 1)];
    if (from >= 0 && to <= 1 && to - from >= 0.02) [state.from, state.to] = [from, to];
    chart.scrollIntoView();
  }
  draw();
}

// The tables of a site: rows are narrowed by what stands in a column, and columns are laid side by side, six at most.
for (const table of document.querySelectorAll("table[data-filters]")) {
  const controls = document.createElement("form");
  controls.className = "narrowed";
  const left = document.createElement("output");
  const wanted = table.dataset.filters.trim().split(" ").map((part) => part.split(":"));
  const rows = [...table.tBodies[0].rows];
  const tests = wanted.map(([column, kind]) => {
    const label = document.createElement("label");
    const name = table.tHead.rows[0].cells[column].textContent;
    const cell = (row) => row.cells[column];
    if (kind === "choice") {
      const select = document.createElement("select");
      const values = [...new Set(rows.map((row) => cell(row).textContent))].sort((a, b) => a.localeCompare(b, document.documentElement.lang, { numeric: true }));
      select.append(new Option(say("all"), ""), ...values.map((value) => new Option(value, value)));
      label.append(name, select);
      controls.append(label);
      return (row) => !select.value || cell(row).textContent === select.value;
    }
    const input = document.createElement("input");
    input.type = "number";
    input.min = "0";
    label.append(say("{text}, at most", { text: name }), input);
    controls.append(label);
    return (row) => !input.value || (cell(row).dataset.key !== undefined && Number(cell(row).dataset.key) <= Number(input.value));
  });
  const narrow = () => {
    rows.forEach((row) => row.classList.toggle("gone", !tests.every((test) => test(row))));
    left.textContent = say("{figure} of {figure2}", { figure: rows.filter((row) => !row.classList.contains("gone")).length, figure2: rows.length });
  };
  controls.addEventListener("input", narrow);
  controls.addEventListener("submit", (event) => event.preventDefault());
  controls.append(left);
  table.closest(".scroll").before(controls);
  narrow();
}
for (const table of document.querySelectorAll("table.chooses")) {
  const heads = [...table.tHead.rows[0].cells].slice(1);
  const asked = decodeURIComponent(location.hash.slice(1)).split("+").map(Number).filter((n) => n >= 1 && n <= heads.length);
  const chosen = new Set(asked.length > 1 ? asked.slice(0, 6) : heads.slice(0, 6).map((_, n) => n + 1));
  const controls = document.createElement("fieldset");
  controls.className = "narrowed";
  const legend = document.createElement("legend");
  legend.textContent = say("Two to six at once");
  controls.append(legend);
  const boxes = heads.map((head, n) => {
    const [label, box] = [document.createElement("label"), document.createElement("input")];
    label.className = "pick";
    box.type = "checkbox";
    label.append(box, head.textContent);
    controls.append(label);
    box.addEventListener("change", () => {
      if (box.checked) chosen.add(n + 1);
      else chosen.delete(n + 1);
      show();
      history.replaceState(null, "", `#${[...chosen].sort((a, b) => a - b).join("+")}`);
    });
    return box;
  });
  const show = () => {
    boxes.forEach((box, n) => {
      box.checked = chosen.has(n + 1);
      box.disabled = !box.checked && chosen.size >= 6;
    });
    for (const row of table.rows) [...row.cells].forEach((cell, n) => cell.classList.toggle("gone", n > 0 && !chosen.has(n)));
  };
  table.closest(".scroll").before(controls);
  show();
}
