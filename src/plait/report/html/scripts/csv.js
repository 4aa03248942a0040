// Delimited text as RFC 4180 has it.

const csvCell = text => /[",\r\n]|^\s|\s$/.test(text) ? '"' + text.replaceAll('"', '""') + '"' : text;
const csvText = rows => rows.map(row => row.map(csvCell).join(",") + "\r\n").join("");

// The rows of a text: cells in quotes may hold commas, quotes written twice, and line breaks.
function csvRows(text) {
  const rows = [];
  let row = [], now = "", quoted = false, at = text.charCodeAt(0) === 0xfeff ? 1 : 0;
  const delimiter = /^[^"\r\n]*;/.test(text.slice(at)) && !/^[^"\r\n]*,/.test(text.slice(at)) ? ";" : ",";
  for (; at < text.length; at++) {
    const sign = text[at];
    if (quoted) {
      if (sign !== '"') now += sign;
      else if (text[at + 1] === '"') { now += '"'; at++; }
      else quoted = false;
    } else if (sign === '"' && !now) quoted = true;
    else if (sign === delimiter) { row.push(now); now = ""; }
    else if (sign === "\n" || sign === "\r") {
      if (sign === "\r" && text[at + 1] === "\n") at++;
      row.push(now);
      rows.push(row);
      row = [];
      now = "";
    } else now += sign;
  }
  if (now || row.length) rows.push([...row, now]);
  return rows.filter(one => one.length > 1 || one[0] !== "");
}
