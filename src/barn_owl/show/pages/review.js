const data = JSON.parse(document.getElementById("data").textContent);
const at = (id) => document.getElementById(id);
const PAGE = 200, AROUND_S = 0.3, STEP_S = 0.01, WIDE_STEP_S = 0.1;
const answers = new Map(Object.entries(data.answers));
let shown = [], current = null, edges = [0, 0], limit = PAGE;
const picture = new Image();
picture.addEventListener("load", () => view.draw());
const view = new View(at("spectrogram"), {
  paint: (context, { from, span }) => {
    const { width, height } = context.canvas, all = current.to - current.from;
    context.clearRect(0, 0, width, height);
    if (picture.naturalWidth) context.drawImage(picture, (from - current.from) / all * picture.naturalWidth, 0, span / all * picture.naturalWidth, picture.naturalHeight, 0, 0, width, height);
  },
  changed: () => draw(),
});

function drawMarks() {
  for (const mark of data.marks) {
    const label = make("span", mark.hz >= 1000 ? mark.hz / 1000 + " kHz" : mark.hz + " Hz");
    label.style.bottom = 100 * mark.up + "%";
    at("marks").append(label);
  }
}
function name(one) { return one.kind === "stretch" ? "no event" : one.label || "not labeled"; }

const ORDERS = {
  informativeness: (a, b) => b.informativeness - a.informativeness || a.id - b.id,
  sample: (a, b) => a.draw - b.draw || a.stratum.localeCompare(b.stratum),
  low: (a, b) => (a.score ?? 2) - (b.score ?? 2) || a.id - b.id,
  high: (a, b) => (b.score ?? -1) - (a.score ?? -1) || a.id - b.id,
  label: (a, b) => name(a).localeCompare(name(b)) || (b.score ?? 0) - (a.score ?? 0),
  time: (a, b) => a.file.localeCompare(b.file) || a.start - b.start,
};
function choose() {
  const label = at("of_label").value, state = at("of_answer").value;
  shown = data.items.filter((one) => {
    const verdict = answers.get(one.key)?.verdict;
    return (!label || (label === "\u0000" ? one.kind === "stretch" : one.label === label && one.kind !== "stretch"))
      && (!state || (state === "open" ? !verdict : state === "unsure" ? verdict === "unsure" : Boolean(verdict)));
  }).sort(ORDERS[at("order").value]);
  limit = PAGE;
  list();
  show(shown.includes(current) ? current : shown.find((one) => !answers.has(one.key)) || shown[0] || null);
}
function list() {
  const items = shown.slice(0, limit).map((one) => {
    const item = make("li"), button = make("button", line(one), { type: "button" });
    button.addEventListener("click", () => show(one));
    one.button = button;
    item.append(button);
    return item;
  });
  at("list").replaceChildren(...items);
  at("more").hidden = shown.length <= limit;
  if (current?.button) current.button.setAttribute("aria-current", "true");
}
const MARKS = { right: "\u2713", wrong: "\u2717", other: "\u2192", unsure: "?" };
function line(one) {
  const answer = answers.get(one.key), score = one.score === null ? "" : " " + one.score.toFixed(2);
  const mark = answer ? MARKS[answer.verdict] : "\u00b7";
  const instead = answer?.verdict === "other" ? " " + answer.sounds.map((sound) => sound[0]).join(", ") : "";
  return mark + instead + " " + name(one) + score + " " + clock(one.start);
}

async function show(one) {
  if (current?.button) current.button.removeAttribute("aria-current");
  current = one;
  stop();
  at("item").hidden = !one;
  tell();
  if (!one) return;
  if (one.button) {
    one.button.setAttribute("aria-current", "true");
    const place = at("list");
    place.scrollTop = one.button.offsetTop - place.offsetTop - place.clientHeight / 2;
  }
  const answer = answers.get(one.key), sound = one.kind === "event" && answer?.sounds?.[0];
  edges = sound ? [sound[1], sound[2]] : [one.start, one.end];
  at("said").textContent = one.kind === "stretch" ? "No event detected here" : name(one) +
    (one.score === null ? "" : " (" + one.score.toFixed(2) + ")");
  at("where").textContent = one.file + ", " + clock(one.start) + " to " + clock(one.end) + (one.why ? "; " + one.why : "");
  const address = data.served ? "picture/" + one.id : data.pictures[one.id];
  at("spectrogram").hidden = !address;
  if (address) picture.src = address;
  at("spectrogram").setAttribute("aria-label", "spectrogram of " + at("said").textContent + ", " + clock(one.from) + " to " + clock(one.to));
  at("play").disabled = at("all").disabled = !(data.served || data.sounds[one.id]);
  for (const button of at("verdicts").children) {
    const verdict = button.dataset.verdict;
    button.hidden = !one.label && verdict === "right";
    button.firstElementChild.textContent = verdict !== "wrong" ? (verdict ? verdict[0].toUpperCase() + verdict.slice(1) : "Undo")
      : one.kind === "stretch" ? "Nothing begins here" : one.label ? "Wrong" : "None of the labels";
  }
  at("instead").textContent = one.kind === "stretch" ? "A sound begins here:" : one.label ? "Another label:" : "Label:";
  at("near").replaceChildren(...one.near.map((other) =>
    make("li", other.label + (other.score === null ? "" : " " + other.score.toFixed(2)) + ", " + clock(other.start) + " to " + clock(other.end))));
  if (!one.near.length) at("near").append(make("li", "none"));
  view.limits = [one.from, one.to];
  view.show(one.from, one.to);
}
const share = (seconds) => view.share(seconds);
function draw() {
  const one = current, answer = answers.get(one.key);
  at("around").replaceChildren(...one.near.filter((other) => other.end > view.from && other.start < view.to).map((other) => {
    const box = make("span", other.label);
    box.style.left = 100 * share(Math.max(other.start, view.from)) + "%";
    box.style.width = 100 * (share(Math.min(other.end, view.to)) - share(Math.max(other.start, view.from))) + "%";
    return box;
  }));
  at("span").style.left = 100 * share(edges[0]) + "%";
  at("span").style.width = 100 * (share(edges[1]) - share(edges[0])) + "%";
  ["from", "to"].forEach((id, n) => {
    const edge = at(id);
    edge.style.left = 100 * share(edges[n]) + "%";
    edge.setAttribute("aria-valuemin", one.from.toFixed(2));
    edge.setAttribute("aria-valuemax", one.to.toFixed(2));
    edge.setAttribute("aria-valuenow", edges[n].toFixed(2));
    edge.setAttribute("aria-valuetext", clock(edges[n]));
  });
  at("times").textContent = clock(edges[0]) + " to " + clock(edges[1]) + ", " + (edges[1] - edges[0]).toFixed(2) + " s";
  for (const button of at("verdicts").children)
    button.setAttribute("aria-pressed", String(Boolean(answer) && answer.verdict === button.dataset.verdict));
  for (const button of at("labels").children)
    button.setAttribute("aria-pressed", String(answer?.verdict === "other" && answer.sounds.some((sound) => sound[0] === button.dataset.label)));
  const sounds = one.kind === "stretch" && answer?.sounds || [];
  at("sounds").replaceChildren(...sounds.map((sound, n) => {
    const item = make("li", sound[0] + ", " + clock(sound[1]) + " to " + clock(sound[2]) + " ");
    const remove = make("button", "remove", { type: "button", "aria-label": "remove " + sound[0] });
    remove.addEventListener("click", () => {
      const left = sounds.filter((_, m) => m !== n);
      give(left.length ? "other" : "", left);
    });
    item.append(remove);
    return item;
  }));
  if (one.button) one.button.textContent = line(one);
}
function tell() {
  const answered = data.items.filter((one) => answers.has(one.key)).length;
  at("done").max = data.items.length || 1;
  at("done").value = answered;
  at("progress").textContent = answered + " of " + data.items.length + " reviewed" +
    (shown.length < data.items.length ? "; " + shown.length + " shown" : "");
  at("given").textContent = current ? (shown.indexOf(current) + 1) + " of " + shown.length : "no items";
}

function give(verdict, sounds) {
  const one = current;
  const answer = { item: one.key, verdict, sounds, reviewer: at("reviewer").value, when: new Date().toISOString() };
  if (verdict) answers.set(one.key, answer); else answers.delete(one.key);
  draw();
  tell();
  if (data.served) outbox.send(answer); else recall(data.store, Object.fromEntries(answers));
}
function judge(verdict) {
  if (!current || (verdict === "right" && !current.label)) return;
  give(verdict, verdict === "right" ? [[current.label, ...edges]] : []);
  if (verdict) move(1, true);
}
function relabel(label) {
  if (!current || !label) return;
  if (current.kind === "stretch") {
    const before = answers.get(current.key)?.sounds || [];
    give("other", [...before, [label, ...edges]]);
  } else {
    give(label === current.label ? "right" : "other", [[label, ...edges]]);
    move(1, true);
  }
}
function move(step, open) {
  let here = shown.indexOf(current);
  do { here += step; } while (open && shown[here] && answers.has(shown[here].key));
  if (shown[here]) show(shown[here]); else tell();
}
function moved(n, seconds) {
  const least = 0.02, one = current;
  edges[n] = n ? Math.min(Math.max(seconds, edges[0] + least), one.to) : Math.max(Math.min(seconds, edges[1] - least), one.from);
  edges[n] = Math.round(edges[n] * 1000) / 1000;
  draw();
}
function settled() {  // an answer that was given holds the edges that it was given with
  const answer = answers.get(current.key);
  if (current.kind === "event" && answer?.sounds?.length) give(answer.verdict, [[answer.sounds[0][0], ...edges]]);
}

const outbox = data.served ? new Outbox({
  kind: "answer", address: "answer", store: data.store, key: (answer) => answer.item, replied: (reply) => estimate(reply.estimate),
  trouble: (text) => { if (!refusal) at("trouble").textContent = text; },
  refused: (answer, why) => { refusal = "an answer was not taken: " + why; at("trouble").textContent = refusal; answers.delete(answer.item); choose(); },
}) : null;
let refusal = "";
function estimate(rows) {
  const two = (value) => value === null ? "\u2013" : value.toFixed(2);
  at("estimate").hidden = !rows.length;
  at("estimate").tBodies[0].replaceChildren(...rows.map((row) => {
    const line = make("tr");
    line.append(make("th", row.label, { scope: "row" }), make("td", String(row.events)), make("td", String(row.reviewed)),
      make("td", two(row.precision)), make("td", two(row.precision_low) + " to " + two(row.precision_high)),
      make("td", two(row.recall)), make("td", two(row.recall_low) + " to " + two(row.recall_high)));
    return line;
  }));
}

const sounds = new Sounds((text) => { at("trouble").textContent = text; });
const player = new Player(at("sound"), {
  address: async () => {
    const one = current, url = data.served ? await sounds.get("sound/" + one.id) : data.sounds[one.id];
    return url && one === current && { url, begin: one.from };
  },
  moved: (now) => { at("cursor").hidden = !player.playing; at("cursor").style.left = 100 * share(now) + "%"; },
});
function stop() { player.stop(); at("cursor").hidden = true; }
function play(all) {
  if (!current) return;
  if (player.playing) stop();
  else player.play(...(all ? [current.from, current.to] : [Math.max(current.from, edges[0] - AROUND_S), Math.min(edges[1] + AROUND_S, current.to)]));
}

for (const [n, id] of ["from", "to"].entries()) {
  const edge = at(id);
  edge.addEventListener("pointerdown", (event) => { edge.setPointerCapture(event.pointerId); edge.focus(); event.preventDefault(); });
  edge.addEventListener("pointermove", (event) => {
    if (!edge.hasPointerCapture(event.pointerId)) return;
    const box = at("picture").getBoundingClientRect();
    moved(n, view.time((event.clientX - box.left) / box.width));
  });
  edge.addEventListener("pointerup", settled);
  edge.addEventListener("keydown", (event) => {
    const way = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[event.key];
    if (!way) return;
    event.preventDefault();
    event.stopPropagation();
    moved(n, edges[n] + way * (event.shiftKey ? WIDE_STEP_S : STEP_S));
    settled();
  });
}
const KEYS = [
  [["r"], "right", () => judge("right")], [["w"], "wrong, or none of the labels", () => judge("wrong")],
  [["u"], "unsure", () => judge("unsure")], [["z"], "take the answer back", () => judge("")],
  [["1", "2", "3", "4", "5", "6", "7", "8", "9"], "this label", (event) => { const label = data.labels[Number(event.key) - 1]; if (label) relabel(label); }],
  [["o"], "another label", () => at("word").focus()],
  [[" "], "play", () => play(false)], [["a"], "play with context", () => play(true)],
  [["n", "ArrowRight"], "next", () => move(1)], [["p", "ArrowLeft"], "previous", () => move(-1)],
  [["+", "="], "zoom in", () => view.zoom(0.5, (edges[0] + edges[1]) / 2)], [["-"], "zoom out", () => view.zoom(2)],
  [["?"], "", () => at("keys").showModal()],
];
bindKeys(KEYS, (event) => {
  if (event.key === "Enter" && event.target === at("word")) { relabel(at("word").value.trim()); at("word").value = ""; at("said").focus(); event.preventDefault(); }
  if (event.key === "Escape") at("said").focus();
});
at("key-list").append(...keyList(KEYS));
at("help").addEventListener("click", () => at("keys").showModal());

at("choose").addEventListener("submit", (event) => event.preventDefault());
for (const id of ["order", "of_label", "of_answer"]) at(id).addEventListener("change", choose);
at("more").addEventListener("click", () => { limit += PAGE; list(); });
at("play").addEventListener("click", () => play(false));
at("all").addEventListener("click", () => play(true));
at("before").addEventListener("click", () => move(-1));
at("next").addEventListener("click", () => move(1));
for (const button of at("verdicts").children) button.addEventListener("click", () => judge(button.dataset.verdict));
at("of_label").append(make("option", "any", { value: "" }), make("option", "no event", { value: "\u0000" }));
data.labels.forEach((label, n) => {
  at("of_label").append(make("option", label, { value: label }));
  const button = make("button", label + " ", { type: "button", "data-label": label });
  if (n < 9) button.append(make("kbd", String(n + 1)));
  button.addEventListener("click", () => relabel(label));
  at("labels").append(button);
});
at("save")?.addEventListener("click", () => {
  const lines = [...answers.values()].map((answer) => JSON.stringify(answer) + "\n");
  const link = make("a", "", { download: data.download });
  link.href = URL.createObjectURL(new Blob(lines, { type: "application/jsonl" }));
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
  at("given").textContent = lines.length + " answers saved as " + data.download;
});
if (data.served) {
  for (const answer of outbox.pending.values()) answers.set(answer.item, answer);
  estimate(data.estimate);
  outbox.flush();
} else {
  for (const [key, answer] of Object.entries(recalled(data.store))) answers.set(key, answer);
}
choose();
drawMarks();
