// The rows of a shape, what is chosen of them, and what follows for every field. No elements in here.

const MISSING = 0; // the slot of rows without a value; a value n has slot n + 1

class Field {
  // `codes`: for each row 0, or the place of its cell among the texts, from 1.
  constructor(said, codes) {
    Object.assign(this, said);
    this.codes = codes;
    this.slots = new Uint32Array(this.texts.length + 1);
    this.shown = [];
    this.texts.forEach((text, at) => {
      const value = this.value ? this.value[at] : at;
      this.slots[at + 1] = value + 1;
      if (value >= 0 && this.shown[value] === undefined) this.shown[value] = text;
    });
    this.size = this.shown.length + 1;
    this.stretches = Math.max(this.bins.length - 1, 0);
    this.clear();
    this.all = this.counts(null);
  }

  clear() { this.picked = new Set(); this.pickedBins = new Set(); }
  get chosen() { return this.picked.size + this.pickedBins.size > 0; }

  // How many rows each slot has; of those that are marked, or of all.
  counts(marked) {
    const codes = this.codes, byCode = new Uint32Array(this.texts.length + 1), bySlot = new Uint32Array(this.size);
    if (marked) for (let row = 0; row < codes.length; row++) byCode[codes[row]] += marked[row];
    else for (let row = 0; row < codes.length; row++) byCode[codes[row]]++;
    for (let code = 0; code < byCode.length; code++) bySlot[this.slots[code]] += byCode[code];
    return bySlot;
  }

  // The rows of a stretch of the spread, from the rows of the slots.
  stretch(counts, bin) {
    let rows = 0;
    for (let value = this.bins[bin]; value < this.bins[bin + 1]; value++) rows += counts[value + 1];
    return rows;
  }

  // For each code whether it is chosen.
  passing() {
    const on = new Uint8Array(this.size);
    for (const slot of this.picked) on[slot] = 1;
    for (const bin of this.pickedBins) on.fill(1, this.bins[bin] + 1, this.bins[bin + 1] + 1);
    return Uint8Array.from(this.slots, slot => on[slot]);
  }

  // Stretches that are chosen and follow one another, as first and last value.
  ranges() {
    const found = [];
    for (let bin = 0; bin < this.stretches; bin++) {
      if (!this.pickedBins.has(bin) || this.bins[bin] === this.bins[bin + 1]) continue;
      const last = found.at(-1);
      if (last && last[1] === this.bins[bin] - 1) last[1] = this.bins[bin + 1] - 1;
      else found.push([this.bins[bin], this.bins[bin + 1] - 1]);
    }
    return found;
  }

  words() {
    const values = [...this.picked].filter(slot => slot !== MISSING).sort((a, b) => a - b).map(slot => this.shown[slot - 1]);
    const said = this.ranges().map(([a, b]) => a === b ? "is " + this.shown[a] : "from " + this.shown[a] + " to " + this.shown[b]);
    if (values.length) said.push("is " + values.join(" or "));
    if (this.picked.has(MISSING)) said.push("is missing");
    return this.name + " " + (said.join(" or ") || "in a range without values");
  }

  literal(value) {
    const text = this.literals ? this.literals[value] : this.shown[value];
    if (["integer", "decimal"].includes(this.base)) return text;
    if (this.base === "boolean") return text.toUpperCase();
    const quoted = "'" + text.replaceAll("'", "''") + "'";
    return ({ date: "DATE ", datetime: "TIMESTAMP ", time: "TIME " }[this.base] ?? "") + quoted;
  }

  // The choice as a condition in SQL.
  where() {
    const column = '"' + this.name.replaceAll('"', '""') + '"';
    const said = this.ranges().map(([a, b]) => a === b ? column + " = " + this.literal(a)
      : column + " BETWEEN " + this.literal(a) + " AND " + this.literal(b));
    const values = [...this.picked].filter(slot => slot !== MISSING).sort((a, b) => a - b).map(slot => this.literal(slot - 1));
    if (values.length === 1) said.push(column + " = " + values[0]);
    else if (values.length) said.push(column + " IN (" + values.join(", ") + ")");
    if (this.picked.has(MISSING)) said.push(column + " IS NULL");
    if (!said.length) return "1 = 0";
    return said.length > 1 ? "(" + said.join(" OR ") + ")" : said[0];
  }
}

const ARRAYS = { 1: Uint8Array, 2: Uint16Array, 4: Uint32Array };

class Shape {
  constructor(said, bytes) {
    this.said = said;
    this.rows = said.rows;
    const array = ([place, size]) => new ARRAYS[size](bytes.slice(place, place + said.rows * size).buffer);
    this.source = array(said.source);
    this.number = array(said.number);
    this.fields = said.fields.map(one => new Field(one, array(one.codes)));
    this.columns = this.fields;
    if (said.sources.length > 1) {
      const one = { name: said.origin, kind: "source file of each row", base: "text", texts: said.sources, value: null, literals: null, bins: [], source: true };
      this.fields = [new Field(one, Uint32Array.from(this.source, place => place + 1)), ...this.fields];
    }
    this.every = true; // whether a row must meet the choices of all fields, or of any
    this.choose();
  }

  get chosen() { return this.fields.filter(one => one.chosen); }

  // Mark the rows that are chosen; nothing is marked where nothing is.
  choose() {
    const fields = this.chosen;
    this.marked = fields.length ? new Uint8Array(this.rows).fill(this.every ? 1 : 0) : null;
    this.count = this.rows;
    if (!this.marked) return;
    for (const field of fields) {
      const pass = field.passing(), codes = field.codes, marked = this.marked;
      if (this.every) for (let row = 0; row < this.rows; row++) marked[row] &= pass[codes[row]];
      else for (let row = 0; row < this.rows; row++) marked[row] |= pass[codes[row]];
    }
    this.count = 0;
    for (let row = 0; row < this.rows; row++) this.count += this.marked[row];
  }

  where() { return this.chosen.map(one => one.where()).join(this.every ? " AND " : " OR "); }

  // The first rows that are chosen.
  first(most) {
    const found = [];
    for (let row = 0; row < this.rows && found.length < most; row++) if (!this.marked || this.marked[row]) found.push(row);
    return found;
  }

  cell(field, row) { return field.codes[row] ? field.texts[field.codes[row] - 1] : null; }

  // The marked rows of two fields against each other; each has slots put into groups.
  grid(down, across) {
    const counts = new Uint32Array(down.size * across.size);
    const one = Uint32Array.from(down.field.slots, slot => down.group(slot)), two = Uint32Array.from(across.field.slots, slot => across.group(slot));
    for (let row = 0; row < this.rows; row++)
      if (!this.marked || this.marked[row]) counts[one[down.field.codes[row]] * across.size + two[across.field.codes[row]]]++;
    return counts;
  }
}
