// What is seen of a field: a bar a value or a stretch, filled so far as its rows are chosen.

const MOST_BARS = 5, MOST_SOURCES = 16, MOST_LISTED = 200;

// Arrow keys go from button to button of a group; only one of them is a stop of the tabulator.
function roving(group, extend) {
  const buttons = () => [...group.querySelectorAll(":scope > button")];
  buttons().forEach((one, at) => { one.tabIndex = at ? -1 : 0; });
  group.addEventListener("keydown", event => {
    const all = buttons(), at = all.indexOf(document.activeElement);
    const step = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[event.key];
    const to = event.key === "Home" ? 0 : event.key === "End" ? all.length - 1 : step ? at + step : -1;
    if (at < 0 || to < 0 || to >= all.length) return;
    event.preventDefault();
    all[at].tabIndex = -1;
    all[to].tabIndex = 0;
    all[to].focus();
    if (event.shiftKey && extend) extend(at, to);
  });
}

class FieldView {
  constructor(field, place, changed) {
    Object.assign(this, { field, place, changed, parts: [] });
    const pic = place.querySelector(".pic");
    pic.replaceChildren(field.stretches > 1 ? this.bins() : this.values(), ...this.rest());
  }

  bins() {
    const field = this.field, all = Array.from({ length: field.stretches }, (_, bin) => field.stretch(field.all, bin)), most = Math.max(...all, 1);
    const group = el("div", { className: "bins", role: "group", "aria-label": field.name + ": ranges" });
    let from = null, dragged = false;
    const toggle = bin => { field.pickedBins.has(bin) ? field.pickedBins.delete(bin) : field.pickedBins.add(bin); this.changed(); };
    const span = (a, b) => { for (let bin = Math.min(a, b); bin <= Math.max(a, b); bin++) field.pickedBins.add(bin); this.changed(); };
    all.forEach((rows, bin) => {
      const whole = el("i", { style: { height: 100 * rows / most + "%" } }), part = el("b");
      const button = el("button", { type: "button", onclick: () => { if (!dragged) toggle(bin); dragged = false; } }, whole, part);
      group.append(button);
      const ends = field.bins[bin] === field.bins[bin + 1] ? "no values in this range" : "from " + field.shown[field.bins[bin]] + " to " + field.shown[field.bins[bin + 1] - 1];
      this.parts.push({ button, update: (counts, any) => {
        const here = any ? field.stretch(counts, bin) : rows;
        part.style.height = 100 * here / most + "%";
        const said = ends + ": " + (any ? number(here) + " of " : "") + counted(rows, "row");
        button.title = said;
        button.setAttribute("aria-label", said);
        button.setAttribute("aria-pressed", String(field.pickedBins.has(bin)));
      } });
    });
    const at = event => {
      const box = group.getBoundingClientRect();
      return Math.min(field.stretches - 1, Math.max(0, Math.floor((event.clientX - box.left) / box.width * field.stretches)));
    };
    group.addEventListener("pointerdown", event => { from = at(event); dragged = false; });
    group.addEventListener("pointermove", event => { if (from !== null && event.buttons && at(event) !== from) dragged = true; });
    addEventListener("pointerup", event => {
      if (from !== null && dragged) { span(from, at(event)); if (!group.contains(event.target)) dragged = false; }
      from = null;
    });
    roving(group, span);
    return group;
  }

  values() {
    const field = this.field, group = el("div", { className: "values", role: "group", "aria-label": field.name + ": values" });
    const every = Array.from(field.shown.keys());
    const order = field.source ? every.slice(0, MOST_SOURCES) : every.sort((a, b) => field.all[b + 1] - field.all[a + 1]).slice(0, MOST_BARS);
    this.most = Math.max(...order.map(value => field.all[value + 1]), 1);
    if (this.most > 1 || field.shown.length <= MOST_BARS) for (const value of order) group.append(this.value(value + 1));
    else group.append(el("div", { className: "ends" }, seen(field.shown.at(0)).slice(0, 40) + " and " + number(field.shown.length - 1) + " more, all different"));
    roving(group);
    return group;
  }

  value(slot) {
    const field = this.field, rows = field.all[slot], most = Math.max(this.most ?? 0, rows, 1);
    const text = slot === MISSING ? "missing" : seen(field.shown[slot - 1]);
    const whole = el("i", { style: { width: 100 * rows / most + "%" } }), part = el("b"), count = el("span", { className: "rows" });
    const button = el("button", { type: "button", className: slot === MISSING ? "value absent" : "value", title: text.slice(0, 500),
      onclick: () => { field.picked.has(slot) ? field.picked.delete(slot) : field.picked.add(slot); this.changed(); } },
      el("span", { className: "says" }, text.length > 60 ? text.slice(0, 60) + "…" : text), el("span", { className: "bar" }, whole, part), count);
    this.parts.push({ button, update: (counts, any, total) => {
      const here = any ? counts[slot] : rows;
      part.style.width = 100 * here / most + "%";
      count.textContent = any ? number(here) + " of " + number(rows) : number(rows) + " (" + percent(rows, total) + ")";
      button.setAttribute("aria-pressed", String(field.picked.has(slot)));
    } });
    return button;
  }

  // What stands below: the ends of a spread, the rows without a value, the full list.
  rest() {
    const field = this.field, made = [];
    if (field.stretches > 1) {
      this.ends = el("div", { className: "ends" });
      made.push(this.ends);
    }
    if (field.all[MISSING]) {
      this.most = this.most ?? field.codes.length;
      const group = el("div", { className: "values" }, this.value(MISSING));
      made.push(group);
    }
    if (field.shown.length > (field.stretches > 1 ? 0 : field.source ? MOST_SOURCES : MOST_BARS) || (this.most === 1 && field.shown.length > 1))
      made.push(el("button", { type: "button", className: "plain ends", onclick: () => this.list() }, "all " + number(field.shown.length) + " values"));
    return made;
  }

  update(shape) {
    const any = shape.marked !== null;
    this.counts = any ? this.field.counts(shape.marked) : this.field.all;
    this.place.classList.toggle("chosen-field", this.field.chosen);
    for (const part of this.parts) part.update(this.counts, any, shape.rows);
    if (this.ends) this.ends.textContent = this.span(any);
  }

  span(any) {
    const field = this.field;
    let low = -1, high = -1, rows = 0;
    for (let value = 0; value < field.shown.length; value++) {
      if (!this.counts[value + 1]) continue;
      if (low < 0) low = value;
      high = value;
      rows += this.counts[value + 1];
    }
    if (low < 0) return any ? "no selected row has a value" : "";
    return (any ? counted(rows, "row") + " selected, " : "") + "from " + field.shown[low] + " to " + field.shown[high];
  }

  // Every value, searched and sorted.
  list() {
    const field = this.field, body = el("div", { className: "values" }), left = el("p", { className: "ends", role: "status" });
    const find = el("input", { type: "search", placeholder: "find a value", "aria-label": "Find a value", oninput: () => fill() });
    const sort = el("select", { "aria-label": "Order", onchange: () => fill() }, el("option", { value: "rows" }, "by number of rows"),
      el("option", { value: "chosen" }, "by selected rows"), el("option", { value: "value" }, "by value"));
    const before = this.parts.length;
    const fill = () => {
      this.parts.length = before;
      const wanted = find.value.toLowerCase();
      let found = Array.from(field.shown.keys());
      if (wanted) found = found.filter(value => seen(field.shown[value]).toLowerCase().includes(wanted));
      const by = sort.value === "chosen" ? this.counts : field.all;
      if (sort.value !== "value") found.sort((a, b) => by[b + 1] - by[a + 1]);
      else if (field.base === "text") found.sort((a, b) => field.shown[a].localeCompare(field.shown[b], undefined, { numeric: true }));
      this.most = Math.max(...found.slice(0, MOST_LISTED).map(value => field.all[value + 1]), 1);
      body.replaceChildren(...found.slice(0, MOST_LISTED).map(value => this.value(value + 1)));
      left.textContent = found.length > MOST_LISTED ? "the first " + number(MOST_LISTED) + " of " + counted(found.length, "value") : counted(found.length, "value");
      this.changed();
    };
    const shown = dialog("Values of " + seen(field.name), el("div", { className: "tools" }, find, sort, left), el("div", { className: "scroll", tabIndex: 0, role: "region", "aria-label": "Values" }, body));
    shown.addEventListener("close", () => { this.parts.length = before; });
    fill();
  }
}
