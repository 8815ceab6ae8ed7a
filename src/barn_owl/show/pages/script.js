"use strict";
const data = JSON.parse(document.getElementById("data").textContent);
const player = document.querySelector("#player audio");
const heard = document.querySelector("#player output");

function play(button) {
  const playing = document.querySelector('button.play[aria-pressed="true"]');
  if (playing) playing.setAttribute("aria-pressed", "false");
  if (playing === button && !player.paused) { player.pause(); return; }
  player.src = data.sounds[button.dataset.sound];
  heard.textContent = button.dataset.title;
  button.setAttribute("aria-pressed", "true");
  player.play();
}
player?.addEventListener("ended", () => {
  const playing = document.querySelector('button.play[aria-pressed="true"]');
  if (playing) playing.setAttribute("aria-pressed", "false");
});
document.addEventListener("click", (event) => {
  const button = event.target.closest("button");
  if (!button) return;
  if (button.matches("button.play")) play(button);
  else if (button.closest(".confusion")) openCell(button);
  else if (button.closest("th")) sort(button.closest("th"));
  else if (button.matches("button.save")) save();
});

function sort(head) {
  const table = head.closest("table"), column = [...head.parentNode.children].indexOf(head);
  const falling = head.getAttribute("aria-sort") !== "descending" && head.dataset.first !== "ascending"
    || head.getAttribute("aria-sort") === "ascending";
  for (const other of head.parentNode.children) other.removeAttribute("aria-sort");
  head.setAttribute("aria-sort", falling ? "descending" : "ascending");
  const value = (row) => row.children[column].dataset.value ?? row.children[column].textContent.trim();
  const body = table.tBodies[0];
  const rows = [...body.rows].sort((a, b) => {
    const [x, y] = [value(a), value(b)], [p, q] = [Number(x), Number(y)];
    const order = x !== "" && y !== "" && !Number.isNaN(p) && !Number.isNaN(q) ? p - q : x.localeCompare(y);
    return falling ? -order : order;
  });
  body.append(...rows);
}

function make(tag, text, attributes) {
  const element = document.createElement(tag);
  if (text) element.textContent = text;  // never as HTML: names are other people's
  for (const [name, value] of Object.entries(attributes || {})) element.setAttribute(name, value);
  return element;
}

function choice(clip) {
  const select = make("select", "", { "aria-label": "correct label of " + clip.name, "data-clip": String(clip.id) });
  select.append(make("option", clip.label ? "label is correct" : "not labeled", { value: "" }));
  for (const label of data.labels) if (label !== clip.label) select.append(make("option", label, { value: label }));
  if (clip.correct) select.value = clip.correct;
  select.addEventListener("change", () => { clip.correct = select.value; });
  return select;
}

function card(clip) {
  const item = make("li");
  item.append(make("h3", clip.name));
  const facts = clip.label ? clip.label + ", predicted: " + clip.predicted : "predicted: " + clip.predicted;
  item.append(make("p", facts + " (" + clip.score.toFixed(2) + ")" + (clip.group ? ", " + clip.group : ""), { class: "soft" }));
  if (clip.sound) item.append(make("button", "play", { class: "play", "data-sound": clip.sound, "data-title": clip.name,
    "aria-pressed": "false", "aria-label": "play " + clip.name }), " ");
  item.append(choice(clip));
  return item;
}

function openCell(button) {
  for (const other of document.querySelectorAll('.confusion button[aria-pressed="true"]'))
    other.setAttribute("aria-pressed", "false");
  button.setAttribute("aria-pressed", "true");
  const label = data.labels[button.dataset.label], predicted = data.labels[button.dataset.predicted];
  const found = data.clips.filter((clip) => clip.label === label && clip.predicted === predicted);
  found.sort((a, b) => b.score - a.score);
  const box = document.getElementById("cell");
  box.replaceChildren(make("h3", found.length + " clips of " + label +
    (label === predicted ? ", rightly said" : " taken for " + predicted), { tabindex: "-1" }));
  const list = make("ul", "", { class: "clips" });
  list.append(...found.map(card));
  box.append(list);
}

for (const place of document.querySelectorAll("[data-choice]")) {
  const clip = data.clips.find((one) => String(one.id) === place.dataset.choice);
  if (clip) place.append(choice(clip));
}

function field(text) {
  return /[",\r\n]/.test(text) ? '"' + text.replaceAll('"', '""') + '"' : text;
}
function save() {
  const changed = data.clips.filter((clip) => clip.correct);
  document.getElementById("saved").textContent = changed.length
    ? changed.length + " corrections saved as corrections.csv. " + data.use
    : "No corrections yet: choose the correct label next to a clip.";
  if (!changed.length) return;
  const lines = ["file,start_s,end_s,label,correct_label"];
  for (const clip of changed)
    lines.push([clip.file, clip.start_s, clip.end_s, clip.label, clip.correct].map(String).map(field).join(","));
  const link = make("a", "", { download: "corrections.csv" });
  link.href = URL.createObjectURL(new Blob([lines.join("\r\n") + "\r\n"], { type: "text/csv" }));
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}
