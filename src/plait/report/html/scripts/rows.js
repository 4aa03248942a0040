// Numbers that open the rows they count, from data in the page.

if ("DecompressionStream" in window) unpacked("packed").then(([said]) => {
  for (const place of document.querySelectorAll("[data-behind]")) {
    const lists = place.dataset.behind.split(" ").map(at => said.lists[at]);
    const title = place.textContent.trim() + ": " + lists.map(one => seen(one.what)).join("; ");
    place.replaceWith(el("button", { type: "button", className: "plain", "data-behind": place.dataset.behind, title, onclick: () => showRows(lists) },
      place.dataset.said || place.textContent));
  }
  document.documentElement.dataset.ready = "yes";
});

function showRows(lists) {
  const parts = lists.flatMap((list, at) => {
    const shown = list.cells.length ? list.cells[0].length : 0;
    const first = shown < list.rows ? "The first " + number(shown) + " of " + number(list.rows) : "All " + number(list.rows);
    const where = list.file ? el("p", {}, first + " rows; full list in ", el("a", { href: list.file.split("/").map(encodeURIComponent).join("/") }, list.file), ".") : el("p", {}, first + ".");
    return [at ? el("h3", {}, seen(list.what)) : null, where, rowsTable(list.columns, shown, row => list.cells.map(cells => cells[row]), seen(list.what))].filter(Boolean);
  });
  dialog(seen(lists[0].what), ...parts);
}
