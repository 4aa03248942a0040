// Which key is meant for which: what is decided, undone, kept and saved. No elements in here.

const same = parts => JSON.stringify(parts);

class Pairs {
  constructor(said) {
    Object.assign(this, said);
    this.mine = said.names[said.side];
    this.theirs = said.names[1 - said.side];
    this.otherOf = new Map(this.others.map((one, at) => [same(one.parts), at]));
    this.keyOf = new Map(this.keys.map((one, at) => [same(one.parts), at]));
    this.decided = new Map(); // place of a key: place of the other, or -1 for none
    this.before = [];
    this.unknown = []; // pairs of a file that are of no key here; they are saved as they came
    // What the odds were estimated with is decided already.
    this.keys.forEach((key, at) => {
      const yes = key.near.find(one => one.decided === "accepted");
      if (yes) this.decided.set(at, yes.other);
      else if (key.near.length && key.near.every(one => one.decided === "rejected")) this.decided.set(at, -1);
    });
    this.kept = this.recall();
  }

  state(at) {
    const other = this.decided.get(at);
    return other === undefined ? "open" : other < 0 ? "rejected" : "accepted";
  }

  // What is proposed for a key, or was decided.
  meant(at) {
    const other = this.decided.get(at);
    return other === undefined || other < 0 ? this.keys[at].near[0]?.other ?? -1 : other;
  }

  // Decide several keys as one step that can be undone.
  decide(changes) {
    this.before.push(new Map(this.decided));
    for (const [at, other] of changes) {
      if (other === undefined) this.decided.delete(at);
      else {
        // A left key counts as one right key only.
        if (this.side === 1 && other >= 0) for (const [key, taken] of this.decided) if (taken === other && key !== at) this.decided.delete(key);
        this.decided.set(at, other);
      }
    }
    this.keep();
  }

  undo() {
    if (!this.before.length) return false;
    this.decided = this.before.pop();
    this.keep();
    return true;
  }

  // The open keys that nothing but the looser comparison tells from one other. What is only near
  // is never taken by the score alone.
  alike() {
    const found = [], taken = new Set(this.side === 1 ? this.decided.values() : []);
    this.keys.forEach((key, at) => {
      const [best] = key.near;
      if (this.decided.has(at) || !best || !best.sure) return;
      if (this.side === 1 && taken.has(best.other)) return;
      taken.add(best.other);
      found.push([at, best.other]);
    });
    return found;
  }

  counts() {
    const made = { accepted: 0, rejected: 0, open: 0 };
    this.keys.forEach((_, at) => { made[this.state(at)]++; });
    return made;
  }

  // Another key of the other side, by its parts.
  add(parts) {
    const found = this.otherOf.get(same(parts));
    if (found !== undefined) return found;
    this.others.push({ parts, rows: 0, cells: [], matched: false });
    this.otherOf.set(same(parts), this.others.length - 1);
    return this.others.length - 1;
  }

  get place() { return "plait pairs " + this.remembered; }

  keep() {
    const said = [...this.decided].map(([at, other]) => [this.keys[at].parts, other < 0 ? null : this.others[other].parts]);
    try { localStorage.setItem(this.place, JSON.stringify({ said, unknown: this.unknown })); } catch { this.kept = false; }
  }

  // What was decided when the page was open before; whether the browser keeps anything.
  recall() {
    try {
      const { said, unknown } = JSON.parse(localStorage.getItem(this.place) ?? '{"said":[],"unknown":[]}');
      this.unknown = unknown;
      for (const [parts, other] of said) {
        const at = this.keyOf.get(same(parts));
        if (at !== undefined) this.decided.set(at, other ? this.add(other) : -1);
      }
      localStorage.setItem(this.place + " test", "1");
      localStorage.removeItem(this.place + " test");
      return true;
    } catch { return false; }
  }

  // The crosswalk: a line for each pair, with whether it is used.
  rows() {
    const odds = near => this.evidence ? [near?.odds ?? "", near?.text ?? ""] : [];
    const line = (mine, theirs, score, why, near, use, decided) => [...(this.side ? theirs : mine), ...(this.side ? mine : theirs), score, why, ...odds(near), use, decided];
    const made = [[...this.names[0], ...this.names[1], "score", "why", ...(this.evidence ? ["odds", "evidence"] : []), "use", "decided"]];
    for (const [left, right] of this.carried) made.push([...left, ...right, "", "used before", ...odds(), "yes", "accepted"]);
    this.keys.forEach((key, at) => {
      const state = this.state(at), chosen = this.decided.get(at) ?? -1;
      const near = key.near.some(one => one.other === chosen) || chosen < 0 ? key.near : [{ other: chosen, score: null, why: "by hand" }, ...key.near];
      for (const one of near)
        made.push(line(key.parts, this.others[one.other].parts, one.score === null ? "" : one.score.toFixed(this.evidence ? 6 : 2), one.why, one, one.other === chosen ? "yes" : "no", one.other === chosen ? "accepted" : state === "accepted" ? "other" : state));
      if (!near.length && state === "rejected") made.push(line(key.parts, this.theirs.map(() => ""), "", "", null, "no", "rejected"));
    });
    return [...made, ...this.unknown];
  }

  // Take what a saved crosswalk says; how many were accepted and rejected, or what is wrong with it.
  load(rows) {
    const [head, ...lines] = rows, parts = this.mine.length;
    const place = names => names.map(name => (head ?? []).indexOf(name));
    let mine = place(this.mine), theirs = place(this.theirs);
    if ([...mine, ...theirs].includes(-1)) return { wrong: "its columns must be " + [...this.names[0], ...this.names[1]].join(", ") };
    const use = head.indexOf("use"), decided = head.indexOf("decided"), changes = new Map(), unknown = [];
    const carried = new Set(this.carried.map(same));
    for (const row of lines) {
      const key = mine.map(at => row[at] ?? ""), other = theirs.map(at => row[at] ?? ""), at = this.keyOf.get(same(key));
      const yes = use < 0 || ["yes", "y", "true", "1", "x"].includes((row[use] ?? "").toLowerCase());
      if (at === undefined) {
        const pair = this.side ? [other, key] : [key, other];
        const cell = name => head.indexOf(name) < 0 ? "" : row[head.indexOf(name)] ?? "";
        const odds = this.evidence ? [cell("odds"), cell("evidence")] : [];
        if (!carried.has(same(pair))) unknown.push([...pair[0], ...pair[1], cell("score"), cell("why"), ...odds, yes ? "yes" : "no", cell("decided")]);
      } else if (yes && other.every(Boolean) && (decided < 0 || row[decided])) changes.set(at, this.add(other));
      else if (decided >= 0 && row[decided] === "rejected" && !changes.has(at)) changes.set(at, -1);
    }
    this.unknown = unknown;
    this.decide(changes);
    const taken = [...changes.values()];
    return { accepted: taken.filter(one => one >= 0).length, rejected: taken.filter(one => one < 0).length, unknown: unknown.length };
  }
}

// Two texts with the letters that only one of them has: each as pieces of text and whether they differ.
function differing(one, two) {
  const a = [...one], b = [...two];
  if (a.length * b.length > 250000) return [[[one, one !== two]], [[two, one !== two]]];
  const long = Array.from({ length: a.length + 1 }, () => new Uint16Array(b.length + 1));
  for (let i = a.length - 1; i >= 0; i--)
    for (let j = b.length - 1; j >= 0; j--)
      long[i][j] = a[i] === b[j] ? long[i + 1][j + 1] + 1 : Math.max(long[i + 1][j], long[i][j + 1]);
  const pieces = [[], []];
  const add = (side, sign, differs) => {
    const last = pieces[side].at(-1);
    if (last && last[1] === differs) last[0] += sign;
    else pieces[side].push([sign, differs]);
  };
  let i = 0, j = 0;
  while (i < a.length || j < b.length) {
    if (i < a.length && j < b.length && a[i] === b[j]) { add(0, a[i++], false); add(1, b[j++], false); }
    else if (j === b.length || (i < a.length && long[i + 1][j] >= long[i][j + 1])) add(0, a[i++], true);
    else add(1, b[j++], true);
  }
  return pieces;
}
