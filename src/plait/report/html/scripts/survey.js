// The survey: for each shape its fields, the words of the choice, the rows chosen, two fields against each other.

const MOST_ROWS = 200, MOST_COLUMNS = 30, MOST_GROUPS = 12;

class ShapeView {
  constructor(shape, section) {
    Object.assign(this, { shape, section });
    const list = section.querySelector(".fields"), places = [...list.children];
    if (shape.fields.length > shape.columns.length)
      list.prepend(el("li", { className: "field" }, el("div", { className: "who" }, el("strong", {}, shape.fields[0].name), " ", el("span", { className: "ends" }, shape.fields[0].kind)),
        el("div", { className: "ends what" }, counted(shape.said.sources.length, "source")), el("div", { className: "pic" })));
    const changed = () => this.changed();
    this.words = el("div", { className: "words", hidden: true });
    this.status = el("p", { className: "quiet", role: "status" });
    list.before(this.status, this.words);
    this.views = shape.fields.map((field, at) => new FieldView(field, list.children[at], changed));
    const first = section.querySelector(".first");
    this.rows = el("div", { className: "rows-chosen" });
    this.wide = shape.columns.length <= MOST_COLUMNS;
    // The list is made where it is seen: to lay it out takes longer than to count everything.
    new IntersectionObserver(found => { this.inView = found.at(-1).isIntersecting; this.listSoon(); }, { rootMargin: "300px" }).observe(this.rows);
    this.against = el("div");
    list.after(this.pair(), this.rows);
    first?.remove();
    this.changed();
  }

  changed() {
    this.shape.choose();
    for (const view of this.views) view.update(this.shape);
    this.tell();
    this.stale = true;
    this.listSoon();
    this.grid();
  }

  // The counts are seen at once, the long list a moment later.
  listSoon() {
    if (!this.stale || !this.inView) return;
    clearTimeout(this.waiting);
    this.waiting = setTimeout(() => this.list(), 0);
  }

  get of() { return this.shape.rows < this.shape.said.of ? counted(this.shape.rows, "sampled row") : counted(this.shape.rows, "row"); }

  tell() {
    const shape = this.shape, chosen = shape.chosen;
    this.words.hidden = !chosen.length;
    const answer = number(shape.count) + " of " + this.of + " (" + percent(shape.count, shape.rows) + ")";
    this.status.textContent = chosen.length ? answer + ": " + chosen.map(one => seen(one.words())).join(shape.every ? ", and " : ", or ") : this.told ? "nothing selected" : "";
    if (!chosen.length) return;
    this.told = true;
    const said = chosen.flatMap((field, at) => [at ? el("button", { type: "button", className: "joint", title: "switch between and / or", onclick: () => { shape.every = !shape.every; this.changed(); } }, shape.every ? "and" : "or") : null,
      el("button", { type: "button", className: "chip", title: "remove this condition", onclick: () => { field.clear(); this.changed(); } }, short(seen(field.words())))]);
    const clear = el("button", { type: "button", onclick: () => { for (const one of chosen) one.clear(); this.changed(); } }, "clear all");
    this.words.replaceChildren(el("p", { className: "answer" }, answer), el("div", { className: "tools" }, ...said.filter(Boolean), clear), this.expression());
  }

  list() {
    this.stale = false;
    const shape = this.shape, rows = shape.first(MOST_ROWS), any = shape.marked !== null;
    const several = shape.said.sources.length > 1, columns = this.columns();
    const names = [...(several ? ["source"] : []), "row", ...columns.map(one => one.name)];
    const cells = at => {
      const row = rows[at];
      return [...(several ? [shape.said.sources[shape.source[row]]] : []), number(shape.number[row]), ...columns.map(one => shape.cell(one, row))];
    };
    const title = (any ? "Selected rows" : "All rows") + ": " + (rows.length < shape.count ? "the first " + number(rows.length) + " of " : "") + (any ? number(shape.count) + " of " : "") + this.of;
    const table = rowsTable(names, rows.length, cells, "Rows");
    table.classList.add("listed");
    const more = el("button", { type: "button", onclick: () => { this.wide = !this.wide; this.list(); } }, this.wide ? "fewer columns" : "all " + number(shape.columns.length) + " columns");
    this.rows.replaceChildren(el("h3", {}, title), ...(shape.columns.length > MOST_COLUMNS ? [more] : []), table);
  }

  // Of very many columns those that are chosen by, and the first.
  columns() {
    const { columns } = this.shape;
    if (this.wide) return columns;
    const chosen = columns.filter(one => one.chosen);
    return [...chosen, ...columns.filter(one => !one.chosen)].slice(0, Math.max(MOST_COLUMNS, chosen.length));
  }

  expression() {
    const where = this.shape.where(), code = el("code", { tabIndex: 0 }, seen(where));
    const only = el("button", { type: "button", onclick: () => copy(where, only) }, "copy expression");
    const command = this.shape.said.command + "'" + where.replaceAll("'", "'\\''") + "'";
    const whole = el("button", { type: "button", title: command, onclick: () => copy(command, whole) }, "copy command");
    return el("div", { className: "where" }, code, only, whole);
  }

  // Two fields against each other.
  pair() {
    const options = () => this.shape.fields.map((one, at) => el("option", { value: at }, short(seen(one.name))));
    const some = this.shape.fields.map((one, at) => [at, one.shown.length]).filter(([, size]) => size > 1);
    const few = some.filter(([, size]) => size <= 40);
    const best = (few.length > 1 ? few : some).map(([at]) => at);
    this.down = el("select", { "aria-label": "Down", onchange: () => this.grid() }, ...options());
    this.across = el("select", { "aria-label": "Across", onchange: () => this.grid() }, ...options());
    this.down.value = best[0] ?? 0;
    this.across.value = best[1] ?? best[0] ?? 0;
    this.two = el("details", { ontoggle: () => this.grid() }, el("summary", {}, "Cross-tabulate two fields"),
      el("div", { className: "tools" }, this.down, " by ", this.across), this.against);
    return this.two;
  }

  grid() {
    if (!this.two.open) return;
    const shape = this.shape, down = groups(shape.fields[this.down.value]), across = groups(shape.fields[this.across.value]);
    const counts = shape.grid(down, across), most = Math.max(...counts, 1);
    const head = el("tr", {}, el("td"), ...across.names.map(name => el("th", { scope: "col" }, short(seen(name), 40))));
    const rows = down.names.map((name, one) => el("tr", {}, el("th", { scope: "row" }, short(seen(name), 40)), ...across.names.map((_, two) => {
      const count = counts[one * across.size + two];
      const picks = [down.picks[one], across.picks[two]]; // there is none for what is several values together
      const pick = () => { for (const choose of picks) choose(); this.changed(); };
      const button = el("button", { type: "button", disabled: !count || !picks.every(Boolean), onclick: pick, title: seen(name) + ", " + seen(across.names[two]) }, count ? number(count) : "·");
      button.style.setProperty("--dark", Math.round(45 * count / most) + "%");
      return el("td", {}, button);
    })));
    this.against.replaceChildren(el("div", { className: "scroll", tabIndex: 0, role: "region", "aria-label": "Two fields against each other" },
      el("table", { className: "against" }, el("caption", {}, counted(shape.count, "row") + (shape.marked ? " chosen" : "")), el("thead", {}, head), el("tbody", {}, ...rows))));
  }
}

// A field in so many groups as there is room for: its stretches, or its commonest values and the others.
function groups(field) {
  const names = [], picks = [], of = new Uint32Array(field.size);
  const add = (name, pick) => { names.push(name); picks.push(pick); return names.length - 1; };
  if (field.stretches > 1) {
    for (let bin = 0; bin < field.stretches; bin++) {
      if (field.bins[bin] === field.bins[bin + 1]) continue;
      const low = field.shown[field.bins[bin]], high = field.shown[field.bins[bin + 1] - 1];
      of.fill(add(low === high ? low : low + " to " + high, () => field.pickedBins.add(bin)), field.bins[bin] + 1, field.bins[bin + 1] + 1);
    }
    const outside = field.all.reduce((sum, rows, slot) => sum + (slot && (slot <= field.bins[0] || slot > field.bins.at(-1)) ? rows : 0), 0);
    if (outside) {
      const place = add("not a finite number", null);
      for (let slot = 1; slot < field.size; slot++) if (slot <= field.bins[0] || slot > field.bins.at(-1)) of[slot] = place;
    }
  } else {
    const order = Array.from(field.shown.keys()).sort((a, b) => field.all[b + 1] - field.all[a + 1]);
    const kept = order.length > MOST_GROUPS ? order.slice(0, MOST_GROUPS - 1) : order;
    if (field.base !== "text") kept.sort((a, b) => a - b);
    for (const value of kept) of[value + 1] = add(field.shown[value], () => field.picked.add(value + 1));
    if (kept.length < order.length) {
      const others = add(number(order.length - kept.length) + " others", null);
      for (const value of order.slice(kept.length)) of[value + 1] = others;
    }
  }
  if (field.all[MISSING]) of[MISSING] = add("missing", () => field.picked.add(MISSING));
  return { field, names, size: names.length, group: slot => of[slot], picks };
}

const short = (text, most = 120) => text.length > most ? text.slice(0, most) + "…" : text;

if ("DecompressionStream" in window) unpacked("packed").then(([said, bytes]) => {
  document.querySelectorAll(".family").forEach((section, at) => {
    if (said.families[at].fields.length) section.shape = new ShapeView(new Shape(said.families[at], bytes), section);
  });
  document.documentElement.dataset.ready = "yes";
});
