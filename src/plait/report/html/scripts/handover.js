// The report of a handover: the picture that opens, steps that open when they are gone to, findings that are filtered.

const opened = document.querySelector("details.opened"), closed = document.querySelector("figure.closed");
if (opened && closed) {
  opened.hidden = true;
  const turn = el("button", { type: "button", "aria-pressed": "false", onclick: () => open(!closed.hidden) }, opened.querySelector("summary").textContent);
  const open = all => {
    closed.hidden = all;
    opened.hidden = !all;
    opened.open = all;
    opened.querySelector("summary").hidden = true;
    turn.setAttribute("aria-pressed", String(all));
  };
  closed.before(el("div", { className: "tools" }, turn));
  for (const one of closed.querySelectorAll("a[data-opens]"))
    one.addEventListener("click", event => { event.preventDefault(); open(true); turn.focus(); });
}

function openTarget() {
  const id = location.hash.slice(1);
  const target = id ? document.getElementById(id) : null;
  for (let one = target?.closest("details"); one; one = one.parentElement.closest("details")) one.open = true;
  target?.scrollIntoView();
}
addEventListener("hashchange", openTarget);
openTarget();

const told = document.getElementById("told");
const findings = told ? [...told.querySelectorAll(".finding")] : [];
if (findings.length > 2) {
  const tools = el("div", { className: "tools", role: "group", "aria-label": "Filter findings" });
  const left = el("span", { role: "status", className: "ends" });
  const selects = ["severity", "code", "step", "source"].map(name => {
    const values = [...new Set(findings.map(one => one.dataset[name]))].filter(Boolean);
    if (values.length < 2) return null;
    const select = el("select", { "data-of": name, onchange: filter }, el("option", { value: "" }, "any " + name), ...values.map(one => el("option", { value: one }, one)));
    tools.append(el("label", {}, el("span", { className: "quiet" }, name), select));
    return select;
  }).filter(Boolean);
  function filter() {
    let shown = 0;
    for (const one of findings) {
      one.hidden = !selects.every(select => !select.value || one.dataset[select.dataset.of] === select.value);
      shown += !one.hidden;
    }
    left.textContent = shown === findings.length ? counted(shown, "finding") : number(shown) + " of " + counted(findings.length, "finding");
  }
  tools.append(left);
  told.before(tools);
  filter();
}
