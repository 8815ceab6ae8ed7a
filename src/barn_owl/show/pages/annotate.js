const data = JSON.parse(document.getElementById("data").textContent);
const at = (id) => document.getElementById(id);
const STEP_S = 0.01, WIDE_STEP_S = 0.1, SHORTEST_S = 0.01, EXCERPT_S = 60, POLL_MS = 2000, MAX_BOXES = 300, PAGE = 200;
const MAX_TILES = 160, TILES_A_VIEW = 5, AROUND_S = 0.3;
const EVENTS = ["marked", "confirmed", "corrected"];
const marks = new Map(), tiles = new Map(), undone = [], done = [];
let recording = 0, selected = null, selection = null, cursor = 0, known = 0, lastLabel = "", shades = null, rowLimit = PAGE;

const facts = () => data.recordings[recording];
const milli = (seconds) => Math.round(seconds * 1000) / 1000;
const name = (mark) => mark.status === "proposed" || mark.status === "rejected" ? mark.predicted : mark.label || "unknown sound";
function say(text) { at("said").textContent = text; }
const troubles = {};
function trouble(source, text) {  // of each source, the last problem, until it is over
  troubles[source] = text;
  at("trouble").textContent = Object.values(troubles).filter(Boolean).join(" ");
}
function described(mark) {
  const score = mark.score === null ? "" : ", score " + mark.score.toFixed(2);
  return name(mark) + ", " + clock(mark.start_s) + " to " + clock(mark.end_s) + ", " + mark.status + score;
}
function mine(test = () => true) {
  return [...marks.values()].filter((mark) => mark.file === recording && mark.status !== "deleted" && test(mark))
    .sort((a, b) => a.start_s - b.start_s || a.end_s - b.end_s);
}
const sounding = () => mine((mark) => mark.status !== "complete" && mark.status !== "rejected");
const complete = () => mine((mark) => mark.status === "complete");

// The spectrogram: tiles of levels from the server, colored here.
function color() {
  const top = -Number(at("gain").value), range = Number(at("range").value), floor = data.tile.floor_db;
  shades = new Uint32Array(256);
  for (let value = 0; value < 256; value++) {
    const share = Math.min(Math.max((floor * (1 - value / 255) - (top - range)) / range, 0), 1);
    const [red, green, blue] = data.palette[Math.round(255 * share)];
    shades[value] = (255 << 24) | (blue << 16) | (green << 8) | red;
  }
  for (const tile of tiles.values()) tile.image = null;
  overview.image = null;
  view.draw();
  drawOverview();
}
function picture(levels, rows, columns) {
  const canvas = make("canvas");
  Object.assign(canvas, { width: columns, height: rows });
  const context = canvas.getContext("2d"), image = context.createImageData(columns, rows);
  const pixels = new Uint32Array(image.data.buffer);
  for (let row = 0; row < rows; row++)
    for (let column = 0; column < columns; column++)
      pixels[(rows - 1 - row) * columns + column] = shades[levels[row * columns + column]];
  context.putImageData(image, 0, 0);
  return canvas;
}
function tileOf(level, index) {
  const key = ["tile", recording, at("scale").value, level, index].join("/");
  let tile = tiles.get(key);
  if (tile) tiles.delete(key);  // the latest used is the last
  else {
    tile = { levels: null, image: null };
    fetch(key).then(async (reply) => {
      if (!reply.ok) { trouble("tile", await reply.text()); return; }
      tile.levels = new Uint8Array(await reply.arrayBuffer());
      trouble("tile", "");
      view.draw();
    }).catch(() => { tiles.delete(key); trouble("tile", "the server does not respond"); });
  }
  tiles.set(key, tile);
  if (tiles.size > MAX_TILES) tiles.delete(tiles.keys().next().value);
  if (tile.levels && !tile.image) tile.image = picture(tile.levels, data.tile.rows, data.tile.columns);
  return tile.image;
}
function paint(context, shown) {
  const { width, height } = context.canvas, [lowest] = data.tile.levels;
  const wanted = Math.round(Math.log2(shown.span * data.tile.columns / width));
  const level = Math.min(Math.max(wanted, lowest), facts().highest_level), size = 2 ** level;
  context.fillStyle = "rgb(" + data.palette[0].join() + ")";
  context.fillRect(0, 0, width, height);
  for (let index = Math.floor(shown.from / size); index * size < Math.min(shown.to, facts().seconds); index++) {
    const image = tileOf(level, index);
    if (image) context.drawImage(image, shown.share(index * size) * width, 0, size / shown.span * width, height);
  }
}
const view = new View(at("spectrogram"), { paint, changed: arrange });
const overview = { levels: null, image: null, share: 0 };
async function loadOverview() {
  const asked = recording, reply = await fetch("overview/" + asked).catch(() => null);
  if (asked !== recording) return;
  if (reply?.ok) {
    const content = new Uint8Array(await reply.arrayBuffer());
    Object.assign(overview, { share: content[0] / 100, levels: content.subarray(1), image: null });
    if (!at("gain").dataset.touched) suitLevels(); else drawOverview();
  }
  if (overview.share < 1) setTimeout(() => asked === recording && loadOverview(), 500);
}
function suitLevels() {  // the loudest pixels of the overview are white
  const counts = new Uint32Array(256);
  for (const value of overview.levels) counts[value] += 1;
  let left = 0.002 * (overview.levels.length - counts[0]), value = 255;
  while (value > 0 && (left -= counts[value]) > 0) value -= 1;
  at("gain").value = -data.tile.floor_db * (1 - value / 255);
  color();
}
function drawOverview() {
  const canvas = at("overview"), scale = window.devicePixelRatio || 1;
  Object.assign(canvas, { width: canvas.clientWidth * scale, height: canvas.clientHeight * scale });
  const context = canvas.getContext("2d"), { width, height } = canvas, all = facts().seconds;
  if (overview.levels && !overview.image) overview.image = picture(overview.levels, data.overview_rows, facts().overview_columns);
  if (overview.image) context.drawImage(overview.image, 0, 0, width, height);
  const line = (mark, style, top, size) => {
    context.fillStyle = style;
    context.fillRect(mark.start_s / all * width, top, Math.max(2, (mark.end_s - mark.start_s) / all * width), size);
  };
  for (const mark of complete()) line(mark, "#2f9e6e", height - 5 * scale, 5 * scale);
  for (const mark of sounding()) line(mark, mark.status === "proposed" ? "#e0a562" : "#ffffff", 0, 5 * scale);
}

// What lies over the spectrogram.
function place(element, from, to) {
  const [left, right] = [Math.max(view.share(from), -1), Math.min(view.share(to), 2)];
  element.style.left = 100 * left + "%";
  element.style.width = 100 * (right - left) + "%";
}
function arrange() {
  const shown = sounding().filter((mark) => mark.end_s > view.from && mark.start_s < view.to).slice(0, MAX_BOXES);
  const lanes = [], focus = document.activeElement?.dataset?.edge;
  at("boxes").replaceChildren(...shown.map((mark) => {
    let lane = lanes.findIndex((end) => end <= mark.start_s);
    if (lane < 0) lane = lanes.length;
    lanes[lane] = mark.end_s;
    const box = make("div", "", { class: "box " + mark.status, style: "--lane: " + lane % 4 });
    const button = make("button", name(mark) + (mark.status === "proposed" ? "?" : ""), {
      type: "button", "data-mark": mark.mark, "aria-pressed": String(mark.mark === selected), "aria-label": described(mark), dir: "auto",
    });
    button.addEventListener("click", () => choose(mark.mark));
    box.append(button);
    place(box, mark.start_s, mark.end_s);
    if (mark.mark === selected) { box.classList.add("selected"); box.append(edge(mark, "start"), edge(mark, "end")); }
    return box;
  }));
  if (focus) at("boxes").querySelector('[data-edge="' + focus + '"]')?.focus();
  at("complete").replaceChildren(...complete().filter((mark) => mark.end_s > view.from && mark.start_s < view.to).map((mark) => {
    const band = make("span");
    place(band, mark.start_s, mark.end_s);
    return band;
  }));
  at("selection").hidden = !selection;
  if (selection) place(at("selection"), ...selection);
  at("overview-span").style.left = 100 * view.from / facts().seconds + "%";
  at("overview-span").style.width = 100 * view.span / facts().seconds + "%";
  drawCursor();
  drawRuler();
}
function drawCursor() {
  const share = view.share(cursor);
  at("cursor").hidden = share < 0 || share > 1;
  at("cursor").style.left = 100 * share + "%";
}
const RULES = [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60];
function drawRuler() {
  const rule = RULES.find((step) => view.span / step <= 12) || 120, ticks = [];
  for (let n = Math.ceil(view.from / rule); n * rule <= view.to; n++) {
    const tick = make("span", clock(n * rule, rule < 0.1 ? 2 : rule < 1 ? 1 : 0));
    tick.style.left = 100 * view.share(n * rule) + "%";
    ticks.push(tick);
  }
  at("ruler").replaceChildren(...ticks);
}
function drawAxis() {
  at("axis").replaceChildren(...facts().ticks[at("scale").value].map(([hertz, up]) => {
    const tick = make("span", hertz >= 1000 ? hertz / 1000 + " kHz" : hertz + " Hz");
    tick.style.bottom = 100 * up + "%";
    return tick;
  }));
}
function edge(mark, which) {
  const value = mark[which + "_s"];
  const handle = make("div", "", {
    class: "edge " + which, role: "slider", tabindex: "0", "data-edge": which, "aria-label": which === "start" ? "onset" : "offset",
    "aria-valuemin": "0", "aria-valuemax": String(facts().seconds), "aria-valuenow": String(value), "aria-valuetext": clock(value, 3),
  });
  const moved = (seconds) => {
    const changed = { ...marks.get(mark.mark) }, [low, high] = which === "start" ? [0, changed.end_s - SHORTEST_S] : [changed.start_s + SHORTEST_S, facts().seconds];
    changed[which + "_s"] = milli(Math.min(Math.max(seconds, low), high));
    return changed;
  };
  handle.addEventListener("pointerdown", (event) => { handle.setPointerCapture(event.pointerId); handle.focus(); event.preventDefault(); event.stopPropagation(); });
  handle.addEventListener("pointermove", (event) => {
    if (!handle.hasPointerCapture(event.pointerId)) return;
    const size = at("stage").getBoundingClientRect(), changed = moved(view.time((event.clientX - size.left) / size.width));
    place(handle.parentNode, changed.start_s, changed.end_s);
    handle.pending = changed;
  });
  handle.addEventListener("pointerup", () => { if (handle.pending) change(corrected(handle.pending)); });
  handle.addEventListener("keydown", (event) => {
    const way = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[event.key];
    if (!way) return;
    event.preventDefault();
    event.stopPropagation();
    const changed = moved(marks.get(mark.mark)[which + "_s"] + way * (event.shiftKey ? WIDE_STEP_S : STEP_S));
    change(corrected(changed), (which === "start" ? "onset " : "offset ") + clock(changed[which + "_s"], 3));
  });
  return handle;
}

// Changes: kept at once, taken back by undo.
const outbox = new Outbox({
  kind: "mark", address: "answer", store: data.store, key: (mark) => mark.mark, replied: tell,
  trouble: (text) => trouble("mark", text),
  refused: (mark, why) => { trouble("refused", "a mark was not taken: " + why); marks.delete(mark.mark); known = 0; refresh(); },
});
function put(mark) {
  const stamped = { ...mark, reviewer: at("reviewer").value, when: new Date().toISOString() };
  marks.set(mark.mark, stamped);
  outbox.send(stamped);
  refresh();
}
function change(mark, told) {
  done.push([marks.get(mark.mark) || { ...mark, status: "deleted" }, mark]);
  undone.length = 0;
  put(mark);
  say(told || described(mark));
}
function restore(from, to, which) {
  const step = from.pop();
  if (!step) { say("nothing to " + which); return; }
  to.push(step);
  const mark = step[which === "undo" ? 0 : 1];
  put(mark);
  if (mark.status !== "deleted") { selected = mark.mark; go(mark); } else if (selected === mark.mark) selected = null;
  say(which + ": " + described(mark));
  refresh();
}
const corrected = (mark) => ({ ...mark, status: { proposed: "corrected", confirmed: "corrected" }[mark.status] || mark.status, label: mark.label || (mark.status === "proposed" ? mark.predicted : "") });
function identifier() { return [...crypto.getRandomValues(new Uint8Array(9))].map((byte) => byte.toString(16).padStart(2, "0")).join(""); }
function created(start, end, more) {
  return { mark: identifier(), file: recording, start_s: milli(Math.max(start, 0)), end_s: milli(Math.min(end, facts().seconds)), label: "", status: "marked", predicted: "", score: null, ...more };
}
function give(label) {
  const mark = marks.get(selected);
  lastLabel = label;
  if (!data.labels.includes(label) && label) { data.labels.push(label); drawLabels(); }
  if (mark && mark.status !== "complete") {
    const same = label === mark.predicted && mark.status === "proposed";
    change({ ...mark, label, status: mark.status === "marked" ? "marked" : same ? "confirmed" : "corrected" });
    if (mark.status === "proposed") toNext((other) => other.status === "proposed");
  } else if (selection && selection[1] - selection[0] >= SHORTEST_S) {
    const [start, end] = selection;
    selection = null;
    const fresh = created(start, end, { label });
    const beside = sounding().find((other) => other.label === label && other.start_s < fresh.end_s && other.end_s > fresh.start_s);
    selected = fresh.mark;
    change(fresh, described(fresh) + (beside ? "; it overlaps another " + name(fresh) : ""));
  } else say("drag over a sound, or press m where it begins and where it ends, then give its label");
}
function settle(status) {
  const mark = marks.get(selected);
  if (mark?.status !== "proposed") { say("no proposed event is selected"); return; }
  change({ ...mark, status, label: status === "confirmed" ? mark.predicted : "" });
  if (status === "rejected") selected = null;
  toNext((other) => other.status === "proposed");
}
function remove() {
  const mark = marks.get(selected);
  if (!mark) { say("nothing is selected"); return; }
  selected = null;
  change({ ...mark, status: "deleted" }, "deleted " + described(mark));
}
function completeStretch() {
  const [start, end] = selection || [view.from, Math.min(view.to, facts().seconds)];
  const open = mine((mark) => mark.status === "proposed" && mark.start_s < end && mark.end_s > start);
  if (open.length) {
    choose(open[0].mark);
    say(open.length + (open.length === 1 ? " proposed event is" : " proposed events are") + " open in this stretch: confirm or reject first");
    return;
  }
  selection = null;
  const mark = created(start, end, { status: "complete" });
  change(mark, "complete: every event from " + clock(mark.start_s) + " to " + clock(mark.end_s) + " is marked");
  cursor = mark.end_s;
}
function reopen() {
  const found = complete().filter((mark) => mark.start_s <= cursor && cursor <= mark.end_s);
  if (!found.length) { say("the cursor is not in a complete stretch"); return; }
  for (const mark of found) change({ ...mark, status: "deleted" }, "open again: " + clock(mark.start_s) + " to " + clock(mark.end_s));
}

// Moving about.
function go(mark) { cursor = mark.start_s; view.reveal(mark.start_s, mark.end_s); arrange(); }
function choose(id) {
  selected = id;
  selection = null;
  const mark = marks.get(id);
  if (mark) { go(mark); say(described(mark)); }
  refresh();
  at("boxes").querySelector('[data-mark="' + CSS.escape(id || "") + '"]')?.focus({ preventScroll: true });
}
function toNext(test = () => true, way = 1) {
  const found = sounding().filter(test), here = marks.get(selected)?.start_s ?? cursor;
  const order = way > 0 ? found : found.reverse();
  const next = order.find((mark) => mark.mark !== selected && way * (mark.start_s - here) >= 0) || order[0];
  if (next) choose(next.mark); else say("there is none");
}
function toGap() {
  const gapFrom = (start) => complete().reduce((end, mark) => mark.start_s <= end + 1e-6 ? Math.max(end, mark.end_s) : end, start);
  const gap = [cursor, 0].map(gapFrom).find((start) => start < facts().seconds - SHORTEST_S);
  if (gap === undefined) { say("all of the recording is complete"); return; }
  selected = null;
  cursor = gap;
  view.show(gap, gap + view.span);
  say("not complete from " + clock(gap));
  refresh();
}
function toWeak() {
  const found = sounding().filter((mark) => mark.status === "proposed" && mark.score !== null).sort((a, b) => a.score - b.score);
  const here = found.findIndex((mark) => mark.mark === selected);
  if (found.length) choose(found[(here + 1) % found.length].mark); else say("no proposed event has a score");
}
function moveCursor(seconds, extends_) {
  const before = cursor;
  cursor = Math.min(Math.max(cursor + seconds, 0), facts().seconds);
  if (extends_) {
    const anchor = selection && (Math.abs(selection[0] - before) < 1e-9 ? selection[1] : selection[0]);
    const from = anchor ?? before;
    selection = [Math.min(from, cursor), Math.max(from, cursor)];
    selected = null;
    say("selected " + clock(selection[0]) + " to " + clock(selection[1]));
  } else say(clock(cursor));
  view.reveal(cursor);
  refresh();
}
let begun = null;
function markHere() {
  const here = player.playing ? player.now : cursor;
  if (begun === null) { begun = here; selected = null; selection = [here, here]; say("begins at " + clock(here) + "; press m where it ends"); }
  else { selection = [Math.min(begun, here), Math.max(begun, here)]; begun = null; say("selected " + clock(selection[0]) + " to " + clock(selection[1]) + "; give its label"); }
  arrange();
}

// Sound.
const sounds = new Sounds((text) => trouble("sound", text));
let looping = false;
const player = new Player(at("sound"), {
  address: async (from, to, loop) => {
    const begin = loop ? from : Math.max(0, from - AROUND_S), end = loop ? to : Math.min(to + AROUND_S, facts().seconds);
    const url = await sounds.get(["sound", recording, Math.round(1000 * begin), Math.round(1000 * end)].join("/"));
    return url && { url, begin: Math.round(1000 * begin) / 1000 };
  },
  moved: (now) => { cursor = Math.min(now, facts().seconds); if (!looping) view.reveal(cursor); drawCursor(); if (begun !== null) { selection = [Math.min(begun, now), Math.max(begun, now)]; arrange(); } },
});
function play() {
  if (player.playing) { player.stop(); return; }
  const mark = marks.get(selected), [from, to] = selection || (mark ? [mark.start_s, mark.end_s] : [cursor, Math.min(cursor + EXCERPT_S, facts().seconds)]);
  if (to - from < SHORTEST_S) { say("the recording ends here"); return; }
  player.play(from, Math.min(to, from + EXCERPT_S), looping && Boolean(selection || mark));
}
function loop() { looping = !looping; player.stop(); say(looping ? "looping is on" : "looping is off"); drawButtons(); }
function speed(way) {
  const select = at("speed"), index = Math.min(Math.max(select.selectedIndex + way, 0), select.options.length - 1);
  select.selectedIndex = index;
  player.setRate(Number(select.value));
  say(select.selectedOptions[0].textContent + " speed");
}

// Lists and labels.
function drawLabels() {
  at("labels").replaceChildren(make("span", "Label:", { class: "soft" }), ...data.labels.slice(0, 40).map((label, n) => {
    const button = make("button", label + " ", { type: "button", dir: "auto" });
    if (n < 9) { button.append(make("kbd", String(n + 1))); button.setAttribute("aria-keyshortcuts", String(n + 1)); }
    button.addEventListener("click", () => give(label));
    return button;
  }));
  const unknown = make("button", "unknown sound ", { type: "button", "aria-keyshortcuts": "0" }), typed = make("label", "other ");
  unknown.append(make("kbd", "0"));
  unknown.addEventListener("click", () => give(""));
  typed.append(make("input", "", { id: "word", size: "12", maxlength: "200", list: "known", autocomplete: "off", dir: "auto" }), " ", make("kbd", "Enter"));
  at("labels").append(unknown, typed);
  at("known").replaceChildren(...data.labels.map((label) => make("option", "", { value: label })));
}
function drawButtons() {
  at("buttons").replaceChildren(...BUTTONS.map(([key, text, action, pressed]) => {
    const button = make("button", text + " ", { type: "button", "aria-keyshortcuts": key === "space" ? "Space" : key });
    if (pressed) button.setAttribute("aria-pressed", String(pressed()));
    button.append(make("kbd", key));
    button.addEventListener("click", action);
    return button;
  }));
}
function drawRows() {
  const all = mine((mark) => mark.status !== "complete");
  at("rows").replaceChildren(...all.slice(0, rowLimit).map((mark) => {
    const row = make("tr"), start = make("td"), button = make("button", clock(mark.start_s, 3), { type: "button" });
    button.addEventListener("click", () => choose(mark.mark));
    start.append(button);
    row.append(start, make("td", clock(mark.end_s, 3)), make("td", name(mark), { dir: "auto" }), make("td", mark.status),
      make("td", mark.score === null ? "" : mark.score.toFixed(2)), make("td", mark.reviewer));
    return row;
  }));
  at("more").hidden = all.length <= rowLimit;
}
function tell() {
  const all = sounding(), events = all.filter((mark) => EVENTS.includes(mark.status)).length, open = all.length - events;
  let seconds = 0, until = 0;
  for (const mark of complete()) { seconds += Math.max(0, mark.end_s - Math.max(until, mark.start_s)); until = Math.max(until, mark.end_s); }
  at("status").textContent = events + " marked" + (open ? ", " + open + " proposed" : "") + "; complete: " + (seconds / 60).toFixed(1) +
    " of " + (facts().seconds / 60).toFixed(1) + " min" + (outbox.size ? "; saving" : "; all saved");
}
let refreshing = 0;
function refresh() {
  refreshing ||= requestAnimationFrame(() => { refreshing = 0; arrange(); drawOverview(); tell(); if (at("rows").closest("details").open) drawRows(); });
}
async function poll() {
  try {
    const reply = await fetch("marks/" + known);
    if (!reply.ok) throw new Error(await reply.text());
    const news = await reply.json();
    for (const mark of news.marks) if (!outbox.pending.has(mark.mark)) {
      marks.set(mark.mark, mark);
      if (mark.label && !data.labels.includes(mark.label)) { data.labels.push(mark.label); drawLabels(); }
      if (mark.predicted && !data.labels.includes(mark.predicted)) { data.labels.push(mark.predicted); drawLabels(); }
    }
    if (news.marks.length) refresh();
    if (!known) for (const mark of outbox.pending.values()) marks.set(mark.mark, mark);
    known = news.count;
    trouble("marks", "");
  } catch (error) { trouble("marks", "marks: " + (error.message === "Failed to fetch" ? "the server does not respond" : error.message)); }
  setTimeout(poll, POLL_MS);
}
function open(number) {
  player.stop();
  Object.assign(overview, { levels: null, image: null, share: 0 });
  recording = number;
  selected = selection = begun = null;
  cursor = 0;
  view.limits = [0, facts().seconds];
  view.longest = TILES_A_VIEW * 2 ** facts().highest_level;
  view.show(0, Math.min(facts().seconds, 30));
  drawAxis();
  loadOverview();
  refresh();
  document.title = facts().name;
}

const KEYS = [
  [[" "], "play or stop: the selection, the selected mark, or from the cursor", play],
  [["ArrowLeft"], "cursor back", () => moveCursor(-view.span / 50)],
  [["ArrowRight"], "cursor on", () => moveCursor(view.span / 50)],
  [["Shift+ArrowLeft", "Shift+ArrowRight"], "select from the cursor", (event) => moveCursor((event.key === "ArrowLeft" ? -1 : 1) * view.span / 50, true)],
  [["Ctrl+ArrowLeft", "Ctrl+ArrowRight"], "cursor by 10 ms", (event) => moveCursor((event.key === "ArrowLeft" ? -1 : 1) * STEP_S)],
  [["m"], "a sound begins, then ends, at the cursor", markHere],
  [["1", "2", "3", "4", "5", "6", "7", "8", "9"], "give this label", (event) => { const label = data.labels[Number(event.key) - 1]; if (label) give(label); }],
  [["0"], "a sound of none of the labels", () => give("")],
  [["Enter"], "type a label", () => at("word").focus()],
  [["l"], "the label that was given last", () => (lastLabel ? give(lastLabel) : say("no label was given yet"))],
  [["s", "e"], "move the onset or offset of the selected mark with arrow keys: 10 ms, with Shift 100 ms", (event) => { const handle = at("boxes").querySelector('[data-edge="' + (event.key === "s" ? "start" : "end") + '"]'); if (handle) handle.focus(); else say("nothing is selected"); }],
  [["Delete", "Backspace"], "delete the selected mark", remove],
  [["a"], "accept the proposed event", () => settle("confirmed")],
  [["r"], "reject the proposed event", () => settle("rejected")],
  [["c"], "complete: every event of the selection, or in view, is marked", completeStretch],
  [["C"], "the complete stretch at the cursor is open again", reopen],
  [["z", "Ctrl+z"], "undo", () => restore(done, undone, "undo")],
  [["Z", "Ctrl+y"], "redo", () => restore(undone, done, "redo")],
  [["n", "p"], "next, previous mark", (event) => toNext(undefined, event.key === "n" ? 1 : -1)],
  [["g"], "next stretch that is not complete", toGap],
  [["w"], "proposed event with the next higher score, from the lowest", toWeak],
  [["+", "="], "zoom in", () => view.zoom(0.5, cursor >= view.from && cursor <= view.to ? cursor : undefined)],
  [["-"], "zoom out", () => view.zoom(2, cursor >= view.from && cursor <= view.to ? cursor : undefined)],
  [["PageDown", "PageUp"], "scroll by a view", (event) => { view.scroll((event.key === "PageDown" ? 0.9 : -0.9) * view.span); cursor = view.from; drawCursor(); }],
  [["Home", "End"], "begin or end of the recording", (event) => { cursor = event.key === "Home" ? 0 : facts().seconds; view.reveal(cursor); refresh(); }],
  [["o"], "loop the selection or the selected mark", loop],
  [[",", "."], "slower, faster", (event) => speed(event.key === "," ? -1 : 1)],
  [["v"], "mel or linear frequency", () => { at("scale").value = at("scale").value === "mel" ? "linear" : "mel"; at("scale").dispatchEvent(new Event("change")); say(at("scale").value + " frequency"); }],
  [["Escape"], "select nothing", () => { selected = selection = begun = null; refresh(); at("stage").focus(); say("nothing selected"); }],
  [["?"], "", () => at("keys").showModal()],
];
const BUTTONS = [
  ["space", "Play", play], ["o", "Loop", loop, () => looping], ["a", "Accept", () => settle("confirmed")], ["r", "Reject", () => settle("rejected")],
  ["Delete", "Delete", remove], ["z", "Undo", () => restore(done, undone, "undo")], ["Z", "Redo", () => restore(undone, done, "redo")],
  ["n", "Next", () => toNext()], ["w", "Lowest score", toWeak], ["g", "Next gap", toGap], ["c", "Complete", completeStretch],
];
bindKeys(KEYS, (event) => {
  if (event.target === at("word") && event.key === "Enter") {
    const label = at("word").value.trim();
    event.preventDefault();
    at("word").value = "";
    at("stage").focus();
    if (label) give(label);
  } else if (event.key === "Escape") at("stage").focus();
});
at("stage").tabIndex = -1;
at("spectrogram").addEventListener("pointerdown", (event) => {
  const size = at("spectrogram").getBoundingClientRect(), seconds = (x) => Math.min(Math.max(view.time((x - size.left) / size.width), 0), facts().seconds);
  const from = seconds(event.clientX);
  event.target.setPointerCapture(event.pointerId);
  const move = (moved) => { const to = seconds(moved.clientX); selected = null; selection = [Math.min(from, to), Math.max(from, to)]; arrange(); };
  const end = (moved) => {
    event.target.removeEventListener("pointermove", move);
    cursor = selection ? selection[0] : from;
    if (Math.abs(moved.clientX - event.clientX) < 4) { selection = selected = null; cursor = from; say(clock(cursor)); }
    else say("selected " + clock(selection[0]) + " to " + clock(selection[1]) + "; give its label");
    refresh();
  };
  event.target.addEventListener("pointermove", move);
  event.target.addEventListener("pointerup", end, { once: true });
});
at("overview").addEventListener("pointerdown", (event) => {
  const jump = (moved) => { const size = at("overview").getBoundingClientRect(); cursor = Math.min(Math.max((moved.clientX - size.left) / size.width, 0), 1) * facts().seconds; view.show(cursor - view.span / 2, cursor + view.span / 2); };
  event.target.setPointerCapture(event.pointerId);
  jump(event);
  event.target.addEventListener("pointermove", jump);
  event.target.addEventListener("pointerup", () => event.target.removeEventListener("pointermove", jump), { once: true });
});
at("recording").append(...data.recordings.map((one, n) => make("option", one.name, { value: String(n) })));
at("recording").addEventListener("change", () => open(Number(at("recording").value)));
at("scale").addEventListener("change", () => { drawAxis(); view.draw(); });
for (const id of ["range", "gain"]) at(id).addEventListener("input", () => { at("gain").dataset.touched = "yes"; color(); });
at("speed").addEventListener("change", () => player.setRate(Number(at("speed").value)));
at("help").addEventListener("click", () => at("keys").showModal());
at("more").addEventListener("click", () => { rowLimit += PAGE; drawRows(); });
at("rows").closest("details").addEventListener("toggle", refresh);
at("reviewer").value = recalled("reviewer").name || "";
at("reviewer").addEventListener("change", () => recall("reviewer", { name: at("reviewer").value }));
addEventListener("resize", () => { drawOverview(); arrange(); });
at("key-list").append(...keyList(KEYS));
drawLabels();
drawButtons();
open(0);
color();
poll();
outbox.flush();
