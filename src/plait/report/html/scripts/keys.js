// Keys without a match, settled by hand: accept, choose another, reject; by mouse or by keyboard.

const MOST_TELLING = 30;

// A probability as a person reads it: near to 1, how much is missing counts.
const chance = share => share > 0.99 && share < 1 ? (100 - Number((100 - 100 * share).toPrecision(1))).toFixed(4).replace(/0+$/, "").replace(/\.$/, "") + "%" : Math.round(100 * share) + "%";

class PairsView {
  constructor(pairs) {
    this.pairs = pairs;
    this.items = pairs.keys.map((_, at) => el("div", { className: "pair", tabIndex: -1, role: "group" }));
    this.items.forEach((item, at) => {
      item.addEventListener("keydown", event => this.key(event, at));
      item.addEventListener("focusin", () => { this.at = at; this.stop(); });
      this.draw(at);
    });
    this.at = 0;
    const side = pairs.side, here = pairs.sources[side], there = pairs.sources[1 - side];
    this.status = el("p", { role: "status", className: "ends" });
    this.bar = el("div", { className: "progress", "aria-hidden": "true" });
    this.state = el("select", { "aria-label": "Which keys are shown", onchange: () => this.filter() },
      ...[["", "all keys"], ...(pairs.evidence ? [["decide", "the " + MOST_TELLING + " that decide most"]] : []), ["open", "open"], ["accepted", "accepted"], ["rejected", "rejected"], ["near", "with a similar key"], ["lonely", "without a similar key"]].map(([value, word]) => el("option", { value }, word)));
    this.find = el("input", { type: "search", placeholder: "find a key", "aria-label": "Find a key", oninput: () => this.filter() });
    const every = pairs.evidence
      ? el("button", { type: "button", title: "What is less sure is left to you", onclick: () => this.decide(pairs.alike()) }, "accept all that are sure enough")
      : el("button", { type: "button", title: "What is only near is left to you", onclick: () => this.decide(pairs.alike()) }, "accept all that differ in spelling only");
    const undo = el("button", { type: "button", onclick: () => this.undo() }, "undo");
    const save = el("button", { type: "button", onclick: () => this.save() }, "save pairs.csv");
    const file = el("input", { type: "file", accept: ".csv,text/csv", className: "quiet", tabIndex: -1, "aria-label": "Load a saved pairs.csv", onchange: () => this.load(file) });
    const load = el("button", { type: "button", onclick: () => file.click() }, "load pairs.csv");
    const command = text => {
      const button = el("button", { type: "button", onclick: () => copy(text, button) }, "copy");
      return el("p", { className: "next" }, el("code", {}, text), button);
    };
    this.said = el("p", { role: "status", className: "ends" });
    const list = el("div", { className: "pairs", role: "group", "aria-label": "Keys of " + seen(here) + " without a match" }, ...this.items);
    const few = pairs.keys.length < pairs.unmatched ? el("p", { className: "ends" }, "Showing the " + number(pairs.keys.length) + " likeliest of " + counted(pairs.unmatched, "key") + " without a match.") : null;
    document.getElementById("static").replaceChildren(
      el("p", { className: "lead" }, "Left: keys of " + seen(here) + " without a match. Right: " + (pairs.evidence ? "the likeliest partner in " + seen(there) + ", with its odds; the doubtful come first" : "the most similar key of " + seen(there)) + ". Up and down: next or previous key. Left and right: other candidates. Enter: accept. Delete: reject. U: undo."),
      ...(few ? [few] : []),
      el("div", { className: "settling-tools" }, el("div", { className: "tools" }, this.state, this.find, every, undo, save, load, file), this.bar, this.status),
      list, this.said,
      ...(pairs.anew ? [el("h3", {}, "Estimate the odds anew, with what is decided here"), command(pairs.anew)] : []),
      el("h3", {}, "Next: join with these pairs"), command(pairs.again));
    this.others = el("datalist", { id: "others" }, ...pairs.others.slice(0, 1000).map(one => el("option", { value: one.parts.join(", ") })));
    document.body.append(this.others);
    if (!pairs.kept) this.said.textContent = "This browser does not store your decisions. Save pairs.csv before you close the page.";
    this.tell();
    this.filter();
  }

  draw(at) {
    const { pairs } = this, key = pairs.keys[at], item = this.items[at], state = pairs.state(at), other = pairs.meant(at);
    const there = other < 0 ? null : pairs.others[other];
    const near = key.near.find(one => one.other === other);
    const [mine, theirs] = there ? this.marked(key.parts, there.parts) : [key.parts.map(part => [[part, false]]), []];
    const sides = [el("div", {}, this.keyed(mine), this.rows(key), this.beside(pairs.side, key, there))];
    sides.push(there ? el("div", { className: "meant" }, this.keyed(theirs), this.rows(there), this.beside(1 - pairs.side, there, key)) : el("div", { className: "meant ends" }, pairs.evidence ? "no likely partner" : "no similar key"));
    if (there && near?.parts) sides[1].append(this.weighed(near));
    if (there) sides[1].querySelector(".ends").append(!near ? ", chosen by hand" : near.odds ? "" : ", similarity " + near.score.toFixed(2) + ", " + near.why, there.matched ? "; already matched" + (pairs.side ? ", and would lose that match" : "") : "");
    sides[1].append(this.choice(at, other));
    const press = (word, wanted, act) => el("button", { type: "button", tabIndex: at === this.at ? 0 : -1, "aria-pressed": String(state === wanted), disabled: wanted === "accepted" && !there, onclick: act }, word);
    const decide = el("div", { className: "decide" }, press(state === "accepted" ? "✓ accepted" : "accept", "accepted", () => this.accept(at)), press(state === "rejected" ? "✗ rejected" : "reject", "rejected", () => this.reject(at)));
    item.className = "pair " + state;
    item.setAttribute("aria-label", seen(key.parts.join(", ")) + (there ? ", perhaps " + seen(there.parts.join(", ")) : "") + ": " + state);
    item.replaceChildren(...sides, decide);
  }

  marked(mine, theirs) {
    const both = mine.map((part, at) => differing(part, theirs[at]));
    return [both.map(one => one[0]), both.map(one => one[1])];
  }

  keyed(parts) {
    const place = el("div", { className: "keyed" });
    parts.forEach((pieces, at) => {
      if (at) place.append(" · ");
      for (const [text, differs] of pieces) place.append(differs ? el("mark", {}, seen(text)) : seen(text));
    });
    return place;
  }

  // The odds as a bar, and what each column says for the pair (to the right, with a plus) or against it.
  weighed(near) {
    const most = Math.max(1, ...near.parts.map(part => Math.abs(part.weight)));
    const part = one => {
      const quiet = !one.tells, side = one.weight < 0 ? "against" : "for";
      const bar = el("span", { className: "weight " + side, "aria-hidden": "true", style: { width: (quiet ? 0 : 50 * Math.abs(one.weight) / most) + "%" } });
      return el("li", {}, el("span", { className: "piece" }, seen(one.name)), el("span", { className: "level" }, one.level),
        el("span", { className: "beam" }, bar), el("span", { className: "times" }, quiet ? "·" : (one.weight < 0 ? "− " : "+ ") + one.times, el("span", { className: "quiet" }, quiet ? " tells little" : " to 1 " + side)));
    };
    return el("div", { className: "weighed" },
      el("p", { className: "odds" }, el("span", { className: "sure", "aria-hidden": "true" }, el("span", { style: { width: 100 * near.score + "%" } })), el("strong", {}, near.odds), " (" + chance(near.score) + ")"),
      el("ul", { "aria-label": "What each column says" }, ...near.parts.map(part)));
  }

  rows(one) { return el("span", { className: "ends" }, one.rows ? counted(one.rows, "row") : "not in this table"); }

  // The other columns of its first row; those that the other side has too and says the same in are marked.
  beside(side, one, other) {
    const names = this.pairs.columns[side], theirs = this.pairs.columns[1 - side];
    return el("dl", {}, ...names.flatMap((name, at) => {
      const text = one.cells[at];
      if (!text) return [];
      const place = theirs.indexOf(name), equal = other && place >= 0 && other.cells[place] === text;
      return [el("dt", {}, seen(name)), el("dd", { className: equal ? "same" : "" }, cell(text))];
    }));
  }

  choice(at, other) {
    const { pairs } = this, key = pairs.keys[at], known = new Set([...key.near.map(one => one.other), ...(other < 0 ? [] : [other])]);
    const made = el("div");
    if (known.size > 1) {
      made.append(el("select", { tabIndex: at === this.at ? 0 : -1, "aria-label": "Matching key", onchange: event => this.show(at, Number(event.target.value)) },
        ...[...known].map(one => el("option", { value: one, selected: one === other }, seen(pairs.others[one].parts.join(", ")) + this.likeness(key, one)))));
    }
    made.append(el("input", { className: "other", list: "others", tabIndex: at === this.at ? 0 : -1, placeholder: "another key…", "aria-label": "Another key", onchange: event => this.byHand(at, event.target.value) }));
    return made;
  }

  likeness(key, other) {
    const near = key.near.find(one => one.other === other);
    return near ? " (" + (near.odds ?? near.score.toFixed(2)) + ")" : "";
  }

  // Show another of the near keys, and accept it where one was accepted.
  show(at, other) { this.decide([[at, other]]); }

  byHand(at, text) {
    const found = this.pairs.others.findIndex(one => one.parts.join(", ") === text);
    if (found >= 0) this.decide([[at, found]]);
    else this.said.textContent = text + " is not a key of " + this.pairs.sources[1 - this.pairs.side] + " on this page.";
  }

  accept(at) { const other = this.pairs.meant(at); if (other >= 0) this.decide([[at, this.pairs.state(at) === "accepted" ? undefined : other]]); }
  reject(at) { this.decide([[at, this.pairs.state(at) === "rejected" ? undefined : -1]]); }

  turn(at, step) {
    const near = this.pairs.keys[at].near.map(one => one.other);
    if (near.length < 2) return;
    const place = near.indexOf(this.pairs.meant(at));
    this.decide([[at, near[(place + step + near.length) % near.length]]]);
  }

  decide(changes) {
    if (!changes.length) { this.said.textContent = "No open pair is sure enough."; return; }
    this.pairs.decide(changes);
    this.after();
  }

  undo() { if (this.pairs.undo()) this.after(); }

  after() {
    const inside = this.items[this.at]?.contains(document.activeElement);
    this.items.forEach((_, at) => this.draw(at));
    if (inside) this.items[this.at].focus();
    this.tell();
  }

  tell() {
    const counts = this.pairs.counts();
    this.bar.replaceChildren(...Object.entries(counts).filter(([, count]) => count).map(([state, count]) => el("span", { className: state, style: { flex: count + " 0 0" } })));
    this.status.textContent = Object.entries(counts).map(([state, count]) => number(count) + " " + state).join(", ");
  }

  filter() {
    const { pairs } = this, wanted = this.find.value.toLowerCase(), state = this.state.value;
    // The keys stand in the order of doubt.
    const telling = new Set(pairs.keys.map((_, at) => at).filter(at => pairs.keys[at].near.length && pairs.state(at) === "open").slice(0, MOST_TELLING));
    this.items.forEach((item, at) => {
      const key = pairs.keys[at], fits = !state || (state === "decide" ? telling.has(at) : state === "near" ? key.near.length > 0 : state === "lonely" ? !key.near.length : pairs.state(at) === state);
      const text = [...key.parts, ...key.near.flatMap(one => pairs.others[one.other].parts)].join(" ").toLowerCase();
      item.hidden = !fits || !text.includes(wanted);
    });
    if (this.items[this.at]?.hidden) this.at = this.items.findIndex(item => !item.hidden);
    this.stop();
  }

  // One key is a stop of the tabulator, with what is in it.
  stop() {
    this.items.forEach((item, at) => {
      item.tabIndex = at === this.at ? 0 : -1;
      for (const one of item.querySelectorAll("button, select, input")) one.tabIndex = at === this.at ? 0 : -1;
    });
  }

  key(event, at) {
    if (event.target !== this.items[at] || event.ctrlKey && event.key !== "z") return;
    const acts = {
      Enter: () => this.accept(at), " ": () => this.accept(at), Delete: () => this.reject(at), Backspace: () => this.reject(at),
      ArrowDown: () => this.go(at, 1), ArrowUp: () => this.go(at, -1), ArrowRight: () => this.turn(at, 1), ArrowLeft: () => this.turn(at, -1),
      u: () => this.undo(), U: () => this.undo(), z: () => event.ctrlKey && this.undo(),
    };
    if (!acts[event.key]) return;
    event.preventDefault();
    acts[event.key]();
  }

  go(at, step) {
    for (let to = at + step; to >= 0 && to < this.items.length; to += step)
      if (!this.items[to].hidden) { this.items[to].focus(); this.items[to].scrollIntoView({ block: "nearest" }); return; }
  }

  save() {
    const url = URL.createObjectURL(new Blob([csvText(this.pairs.rows())], { type: "text/csv" }));
    el("a", { href: url, download: "pairs.csv" }).click();
    setTimeout(() => URL.revokeObjectURL(url), 10000);
    this.said.textContent = "Saved " + counted(this.pairs.counts().accepted + this.pairs.carried.length, "accepted pair") + " to pairs.csv.";
  }

  async load(input) {
    const [file] = input.files;
    if (!file) return;
    const found = this.pairs.load(csvRows(await file.text()));
    input.value = "";
    this.after();
    this.said.textContent = found.wrong ? file.name + ": " + found.wrong
      : file.name + ": " + number(found.accepted) + " accepted, " + number(found.rejected) + " rejected" + (found.unknown ? ", " + number(found.unknown) + " for keys not listed on this page; kept in the file" : "");
  }
}

if ("DecompressionStream" in window && document.getElementById("static")) unpacked("packed").then(([said]) => {
  window.pairsView = new PairsView(new Pairs(said));
  document.documentElement.dataset.ready = "yes";
});
