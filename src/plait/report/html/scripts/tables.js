// Tables of a page: each can be sorted by its columns, long ones searched.

for (const table of document.querySelectorAll("main table:not(.fall)")) {
  if (!table.tHead || table.tBodies.length !== 1) continue;
  const body = table.tBodies[0], rows = [...body.rows];
  if (rows.length < 3) continue;
  if (rows.length >= 12) {
    const find = el("input", { type: "search", className: "find", placeholder: "find in " + rows.length + " rows", "aria-label": "Find in the table",
      oninput: () => {
        const wanted = find.value.toLowerCase();
        for (const row of rows) row.hidden = !row.textContent.toLowerCase().includes(wanted);
      } });
    table.parentElement.before(find);
  }
  [...table.tHead.rows[0].cells].forEach((head, place) => {
    if (!head.textContent.trim() || head.querySelector(".quiet")) return;
    const button = el("button", { type: "button" }, ...head.childNodes);
    head.append(button);
    button.onclick = () => {
      const way = head.getAttribute("aria-sort") === "ascending" ? -1 : 1;
      for (const other of table.tHead.rows[0].cells) other.removeAttribute("aria-sort");
      head.setAttribute("aria-sort", way > 0 ? "ascending" : "descending");
      const value = new Map(rows.map(row => [row, (row.cells[place]?.textContent ?? "").trim().replace(/(\d),(?=\d{3})/g, "$1")]));
      rows.sort((a, b) => way * value.get(a).localeCompare(value.get(b), undefined, { numeric: true }));
      body.append(...rows);
    };
  });
}
