"use strict";
// What all pages use: elements, numbers, signs that are not seen, and data that came packed.

function el(tag, given = {}, ...inside) {
  const made = document.createElement(tag);
  for (const [name, value] of Object.entries(given)) {
    if (value === undefined || value === false) continue;
    if (name.startsWith("on")) made.addEventListener(name.slice(2), value);
    else if (name === "style") Object.assign(made.style, value);
    else if (name in made && !name.startsWith("aria") && name !== "list") made[name] = value;
    else made.setAttribute(name, value === true ? "" : value);
  }
  made.append(...inside.filter(one => one !== null && one !== undefined));
  return made;
}

const written = new Intl.NumberFormat("en-US"), number = count => written.format(count);
const counted = (count, word) => number(count) + " " + word + (count === 1 ? "" : "s");

function percent(part, whole) {
  if (!whole || !part) return "0%";
  const share = Math.round(100 * part / whole);
  return share === 0 ? "<1%" : share === 100 && part < whole ? ">99%" : share + "%";
}

const UNSEEN = /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u061c\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufeff]/g;
const seen = text => text.replace(UNSEEN, sign => "⟨U+" + sign.charCodeAt(0).toString(16).toUpperCase().padStart(4, "0") + "⟩");

const LONG = 300;

// A cell in a list: a long one is whole when it is asked for.
function cell(text) {
  if (text === null) return el("span", { className: "ends" }, "(missing)");
  const whole = seen(text);
  if (whole.length <= LONG) return document.createTextNode(whole);
  const place = el("span", {}, whole.slice(0, LONG) + "… ");
  place.append(el("button", { type: "button", className: "plain", onclick: () => place.replaceChildren(whole) },
    "all " + number(text.length) + " signs"));
  return place;
}

// A table of rows; `columns` are names, `row` gives the cells of the row of a number.
function rowsTable(columns, count, row, label) {
  const head = el("tr", {}, ...columns.map(name => el("th", { scope: "col" }, seen(name))));
  const body = el("tbody");
  for (let at = 0; at < count; at++) body.append(el("tr", {}, ...row(at).map(text => el("td", {}, cell(text)))));
  return el("div", { className: "scroll", tabIndex: 0, role: "region", "aria-label": label },
    el("table", {}, el("thead", {}, head), body));
}

// Bytes that stand packed in the page, as the module that wrote them says.
async function unpacked(id) {
  const text = document.getElementById(id).textContent.trim();
  const letters = atob(text), bytes = new Uint8Array(letters.length);
  for (let at = 0; at < letters.length; at++) bytes[at] = letters.charCodeAt(at);
  const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("deflate"));
  const buffer = await new Response(stream).arrayBuffer();
  const long = new DataView(buffer).getUint32(0, true);
  return [JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, long))), new Uint8Array(buffer, 4 + long)];
}

// A window over the page, closed by Escape, its button, or a click beside it.
function dialog(title, ...inside) {
  const shown = el("dialog", { "aria-label": title });
  const close = el("button", { type: "button", onclick: () => shown.close() }, "Close");
  shown.append(el("div", { className: "tools" }, el("h2", {}, title), close), ...inside);
  shown.addEventListener("click", event => { if (event.target === shown) shown.close(); });
  shown.addEventListener("close", () => shown.remove());
  document.body.append(shown);
  shown.showModal();
  return shown;
}

async function copy(text, button) {
  const before = button.textContent;
  try {
    await navigator.clipboard.writeText(text);
  } catch {
    const place = el("textarea", { value: text });
    button.after(place);
    place.select();
    document.execCommand("copy");
    place.remove();
  }
  button.textContent = "copied";
  setTimeout(() => { button.textContent = before; }, 1500);
}

addEventListener("beforeprint", () => { for (const one of document.querySelectorAll("details:not(.opened)")) one.open = true; });
