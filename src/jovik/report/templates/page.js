// Tables sort on their headings: by the key that a cell carries, else by its text.
"use strict";
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
        const order = x !== undefined ? Number(x) - Number(y) : a.textContent.localeCompare(b.textContent, "en", { numeric: true });
        return down ? -order : order;
      });
      body.replaceChildren(...rows);
    });
  });
}
