"use strict";
// Parts that the review and the annotation page share: a spectrogram that is zoomed and scrolled, a player of
// excerpts with a moving cursor, and a table of keys.

function make(tag, text, attributes) {
  const element = document.createElement(tag);
  if (text) element.textContent = text;  // never as HTML: names are other people's
  for (const [name, value] of Object.entries(attributes || {})) element.setAttribute(name, value);
  return element;
}
function clock(seconds, digits = 2) {
  const unit = 10 ** digits, rounded = Math.round(seconds * unit), whole = Math.floor(rounded / unit);
  const hours = Math.floor(whole / 3600), two = (n) => String(n).padStart(2, "0");
  const rest = digits ? "." + String(rounded % unit).padStart(digits, "0") : "";
  return (hours ? hours + ":" : "") + two(Math.floor(whole / 60) % 60) + ":" + two(whole % 60) + rest;
}

// A stretch of time across a canvas. `paint(context, view)` draws the sound; `changed` hears of every move.
class View {
  constructor(canvas, { paint, changed, minimum = 0.2 }) {
    Object.assign(this, { canvas, paint, changed, minimum, limits: [0, 1], longest: Infinity, from: 0, to: 1 });
    canvas.addEventListener("wheel", (event) => {
      event.preventDefault();
      const size = canvas.getBoundingClientRect();
      if (event.ctrlKey || !(event.shiftKey || event.deltaX)) {
        this.zoom(Math.exp(event.deltaY * 0.002), this.time((event.clientX - size.left) / size.width));
      } else this.scroll((event.deltaX || event.deltaY) / size.width * this.span);
    }, { passive: false });
    new ResizeObserver(() => this.draw()).observe(canvas);
  }
  get span() { return this.to - this.from; }
  share(seconds) { return (seconds - this.from) / this.span; }
  time(share) { return this.from + share * this.span; }
  show(from, to) {
    const [low, high] = this.limits;
    const span = Math.min(Math.max(to - from, this.minimum), this.longest, high - low);
    this.from = Math.min(Math.max(from, low), high - span);
    this.to = this.from + span;
    this.draw();
    this.changed();
  }
  zoom(factor, around = (this.from + this.to) / 2) {
    const span = Math.min(Math.max(this.span * factor, this.minimum), this.longest, this.limits[1] - this.limits[0]);
    const from = around - (around - this.from) / this.span * span;
    this.show(from, from + span);
  }
  scroll(seconds) { this.show(this.from + seconds, this.to + seconds); }
  reveal(start, end = start) {
    if (start < this.from || end > this.to) this.show(start - this.span / 4, start + 3 * this.span / 4);
  }
  draw() {
    if (this.waiting) return;
    this.waiting = requestAnimationFrame(() => {
      this.waiting = 0;
      const { canvas } = this, scale = window.devicePixelRatio || 1;
      const [width, height] = [canvas.clientWidth * scale, canvas.clientHeight * scale].map(Math.round);
      if (!width || !height) return;
      if (canvas.width !== width || canvas.height !== height) Object.assign(canvas, { width, height });
      this.paint(canvas.getContext("2d"), this);
    });
  }
}

// Plays excerpts through an audio element. `address(from, to)` promises a URL and where its sound begins.
class Player {
  constructor(audio, { address, moved }) {
    Object.assign(this, { audio, address, moved, origin: 0, until: Infinity, rate: 1, turn: 0 });
    const step = () => {
      if (audio.paused) return;
      if (audio.currentTime + this.origin >= this.until && !audio.loop) this.stop();
      this.moved(this.now);
      requestAnimationFrame(step);
    };
    audio.addEventListener("play", () => requestAnimationFrame(step));
    audio.addEventListener("ended", () => this.moved(this.now));
  }
  get now() { return this.origin + this.audio.currentTime; }
  get playing() { return !this.audio.paused; }
  stop() { this.turn += 1; this.audio.pause(); this.until = Infinity; }
  setRate(rate) { this.rate = this.audio.playbackRate = rate; }
  async play(from, to, loop = false) {
    const turn = ++this.turn;
    const found = await this.address(from, to, loop);
    if (!found || turn !== this.turn) return;
    if (this.audio.src !== found.url) {
      this.audio.src = found.url;
      await new Promise((ready) => this.audio.addEventListener("loadedmetadata", ready, { once: true }));
    }
    this.origin = found.begin;
    this.until = to;
    this.audio.loop = loop;
    this.audio.currentTime = Math.max(0, from - found.begin);
    this.audio.playbackRate = this.rate;
    await this.audio.play();
  }
}

// URLs of the last sounds that the server sent.
class Sounds {
  constructor(failed, most = 20) { Object.assign(this, { failed, most, loaded: new Map() }); }
  async get(address) {
    if (!this.loaded.has(address)) {
      let reply;
      try { reply = await fetch(address); } catch { this.failed("the server does not respond"); return ""; }
      if (!reply.ok) { this.failed(await reply.text()); return ""; }
      if (this.loaded.size >= this.most) {
        const [oldest, url] = this.loaded.entries().next().value;
        URL.revokeObjectURL(url);
        this.loaded.delete(oldest);
      }
      this.loaded.set(address, URL.createObjectURL(await reply.blob()));
    }
    return this.loaded.get(address);
  }
}

// keys : rows of [keys, what they do, action]; a key is "a", "Shift+a" or "Ctrl+a". Returns the rows as a list.
function bindKeys(keys, typed) {
  const actions = new Map(keys.flatMap(([names, , action]) => names.map((name) => [name, action])));
  document.addEventListener("keydown", (event) => {
    if (event.metaKey || event.altKey) return;
    if (event.target.closest("input:not([type=range]), select, dialog")) { typed?.(event); return; }
    if ((event.key === " " || event.key === "Enter") && event.target.closest("button, summary")) return;  // it presses that button
    if (event.target.matches("input[type=range]") && event.key.startsWith("Arrow")) return;
    const name = (event.ctrlKey ? "Ctrl+" : "") + (event.shiftKey && event.key.length > 1 ? "Shift+" : "") + event.key;
    const action = actions.get(name);
    if (action && action(event) !== false) event.preventDefault();
  });
}
function keyList(keys) {
  return keys.filter(([, what]) => what).map(([names, what]) => {
    const row = make("div"), term = make("dt");
    names.forEach((name, n) => term.append(n ? " " : "", make("kbd", name === " " ? "space" : name.replace("ArrowLeft", "\u2190").replace("ArrowRight", "\u2192"))));
    row.append(term, make("dd", what));
    return row;
  });
}

// Records go to the server at once, in order. A record that it did not take waits in the browser and is sent again.
const LONGEST_RETRY_S = 30;
class Outbox {
  // key(record) : records of a key replace each other. replied(reply, record), refused(record, why), trouble(text) : told what
  // came of it.
  constructor({ kind, address, store, key, replied, refused, trouble }) {
    Object.assign(this, { kind, address, store, key, replied, refused, trouble, pending: new Map(), retry: 1, sending: false });
    for (const record of Object.values(recalled(store))) this.pending.set(key(record), record);
  }
  get size() { return this.pending.size; }
  async send(record) {
    this.pending.delete(this.key(record));
    this.pending.set(this.key(record), record);
    this.keep();
    await this.flush();
  }
  keep() { recall(this.store, Object.fromEntries(this.pending)); }
  async flush() {
    if (this.sending) return;  // what came meanwhile is sent by the call that is at work
    this.sending = true;
    try {
      for (let record; (record = this.pending.values().next().value);) {
        let reply = null;
        try {
          reply = await fetch(this.address, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(record) });
        } catch { /* told below */ }
        if (reply?.status === 400) {  // never to be taken; it must not hold up the records behind it
          this.pending.delete(this.key(record));
          this.keep();
          this.refused(record, await reply.text());
          continue;
        }
        if (!reply?.ok) {
          const why = reply ? await reply.text() : "the server does not respond";
          this.trouble(this.size + " " + this.kind + (this.size === 1 ? " is" : "s are") + " not saved yet: " + why + ". Kept in this browser; next attempt in " + this.retry + " s.");
          setTimeout(() => this.flush(), 1000 * this.retry);
          this.retry = Math.min(2 * this.retry, LONGEST_RETRY_S);
          return;
        }
        this.retry = 1;
        if (this.pending.get(this.key(record)) === record) this.pending.delete(this.key(record));
        this.keep();
        this.replied(await reply.json(), record);
      }
      this.trouble("");
    } finally { this.sending = false; }
  }
}
// What is kept in the browser, if that allows it.
function recalled(store) {
  try { return JSON.parse(localStorage.getItem(store) || "{}"); } catch { return {}; }
}
function recall(store, what) {
  try { localStorage.setItem(store, JSON.stringify(what)); } catch { /* a browser that keeps nothing */ }
}
