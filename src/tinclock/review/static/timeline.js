// The time line: shots by outcome, deaths and findings over time; drag to seek, scroll to zoom, shift-drag to move along.
export const COLOURS = {hit: "#c0262d", miss: "#7b8a92", repeated: "#b9c2c7", case: "#6a4c93", adjusted: "#c98a12", rejected: "#8a2f6b", death: "#22282e", finding: "#2f8fb3", grid: "#cfd6da", text: "#3d464c", unread: "#dde3e6", chosen: "#1f5f8b"};
export const KINDS = [["hit", "hits"], ["miss", "misses"], ["adjusted", "adjusted"], ["rejected", "rejected"], ["repeated", "repeats"], ["death", "deaths"], ["finding", "findings"], ["case", "cases opened"]];

export const kindOf = row => (row.outcome === "repeated" ? "repeated" : row.outcome === "rejected" ? "rejected" : row.outcome === "adjusted" ? "adjusted" : row.victim ? "hit" : "miss");

export class TimeLine {
  constructor(canvas, onSeek, onChoose) {
    Object.assign(this, {canvas, onSeek, onChoose, rows: [], deaths: [], cases: [], t: 0, begins: 0, ends: 1, from: 0, until: 1, chosen: 0, read: 0});
    this.head = canvas.parentElement.querySelector(".head");  // moves with the time; the marks are drawn only when they change
    canvas.addEventListener("pointerdown", event => this._down(event));
    canvas.addEventListener("pointermove", event => this._move(event));
    canvas.addEventListener("pointerup", () => { this.drag = null; });
    canvas.addEventListener("wheel", event => { event.preventDefault(); this.zoom(event.deltaY > 0 ? 1.25 : 0.8, this.timeAt(event.offsetX)); }, {passive: false});
    canvas.addEventListener("dblclick", () => this.whole());
  }

  setSpan(begins, ends) {
    const all = this.from <= this.begins && this.until >= this.ends;
    Object.assign(this, {begins, ends});
    if (all || this.until <= this.from) this.whole();
  }

  whole() { this.from = this.begins; this.until = Math.max(this.ends, this.begins + 0.1); this.draw(); }

  zoom(factor, around = this.t) {
    const wide = Math.min(Math.max((this.until - this.from) * factor, 0.25), Math.max(this.ends - this.begins, 0.25));
    const share = (around - this.from) / (this.until - this.from);
    this.from = Math.max(this.begins, Math.min(around - share * wide, this.ends - wide));
    this.until = this.from + wide;
    this.draw();
  }

  // Keep the playhead in sight while it moves.
  follow(t) {
    this.t = t;
    const wide = this.until - this.from;
    if (!this.drag && (t < this.from || t > this.until)) { this.from = Math.max(this.begins, t - 0.1 * wide); this.until = this.from + wide; this.draw(); }
    this.head.style.transform = `translateX(${this.xOf(t).toFixed(1)}px)`;
  }

  timeAt(x) { return this.from + (x / Math.max(this.canvas.clientWidth, 1)) * (this.until - this.from); }
  xOf(t) { return ((t - this.from) / (this.until - this.from)) * this.canvas.clientWidth; }

  _down(event) {
    this.canvas.setPointerCapture(event.pointerId);
    this.drag = {x: event.offsetX, from: this.from, along: event.shiftKey};
    const near = this._near(event.offsetX, event.offsetY);
    if (near && !event.shiftKey) { this.drag = null; this.onChoose(near.number); return; }
    this._move(event);
  }

  _move(event) {
    if (!this.drag) { this.canvas.style.cursor = this._near(event.offsetX, event.offsetY) ? "pointer" : "col-resize"; return; }
    if (this.drag.along) {
      const wide = this.until - this.from, moved = (event.offsetX - this.drag.x) / this.canvas.clientWidth * wide;
      this.from = Math.max(this.begins, Math.min(this.drag.from - moved, this.ends - wide));
      this.until = this.from + wide;
      this.draw();
    } else this.onSeek(Math.min(Math.max(this.timeAt(event.offsetX), this.begins), this.ends));
  }

  _near(x, y) {
    if (y < 20 || y > 46) return null;
    let best = null, off = 4;
    for (const row of this.rows) { const away = Math.abs(this.xOf(row.at) - x); if (away < off) { off = away; best = row; } }
    return best;
  }

  draw() {
    if (this.waiting) return;
    this.waiting = true;
    requestAnimationFrame(() => { this.waiting = false; this._draw(); });
  }

  _draw() {
    const ratio = globalThis.devicePixelRatio || 1, width = this.canvas.clientWidth, height = this.canvas.clientHeight;
    if (!width) return;
    if (this.canvas.width !== Math.round(width * ratio)) { this.canvas.width = Math.round(width * ratio); this.canvas.height = Math.round(height * ratio); }
    const c = this.canvas.getContext("2d", {willReadFrequently: true});
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.clearRect(0, 0, width, height);
    if (this.read < this.ends) { c.fillStyle = COLOURS.unread; const x = this.xOf(Math.max(this.read, this.from)); c.fillRect(x, 18, width - x, height - 18); }
    this._ticks(c, width, height);
    const lanes = {hit: 22, adjusted: 29, rejected: 36, miss: 43, repeated: 43};
    for (const row of this.rows) {
      const x = this.xOf(row.at);
      if (x < -3 || x > width + 3) continue;
      const kind = kindOf(row);
      c.fillStyle = COLOURS[kind];
      c.fillRect(x - 1, lanes[kind], 2.4, 6);
      if (row.codes.length) { c.fillStyle = COLOURS.finding; c.fillRect(x - 1, 53, 2, 5); }
    }
    c.strokeStyle = COLOURS.death;
    c.lineWidth = 1.3;
    for (const one of this.deaths) {
      const x = this.xOf(one.at);
      if (x < -4 || x > width + 4) continue;
      c.beginPath(); c.moveTo(x - 3, 61); c.lineTo(x + 3, 67); c.moveTo(x + 3, 61); c.lineTo(x - 3, 67); c.stroke();
    }
    for (const one of this.cases) {
      const x = this.xOf(one.at);
      c.fillStyle = COLOURS.case;
      c.beginPath(); c.moveTo(x, 60); c.lineTo(x + 5, 70); c.lineTo(x - 5, 70); c.fill();
    }
    const chosen = this.rows.find(row => row.number === this.chosen);
    if (chosen) { c.strokeStyle = COLOURS.chosen; c.lineWidth = 2; c.strokeRect(this.xOf(chosen.at) - 4, 20, 8, 32); }
    this.head.style.transform = `translateX(${this.xOf(this.t).toFixed(1)}px)`;
  }

  _ticks(c, width, height) {
    const wide = this.until - this.from, raw = wide / Math.max(width / 90, 1);
    const step = [0.05, 0.1, 0.25, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1800].find(s => s >= raw) ?? 3600;
    c.font = "11px 'DejaVu Sans', sans-serif";
    c.fillStyle = COLOURS.text;
    c.strokeStyle = COLOURS.grid;
    c.lineWidth = 1;
    for (let at = Math.ceil(this.from / step) * step; at <= this.until; at += step) {
      const x = Math.round(this.xOf(at)) + 0.5;
      c.beginPath(); c.moveTo(x, 16); c.lineTo(x, height); c.stroke();
      c.fillText(clock(at, step < 1 ? 2 : 0), Math.min(x + 3, width - 40), 12);
    }
  }
}

export function clock(t, digits = 2) {
  const whole = Number(Math.max(t, 0).toFixed(digits)), minutes = Math.floor(whole / 60), seconds = (whole - 60 * minutes).toFixed(digits);
  return `${minutes}:${seconds.padStart(digits ? digits + 3 : 2, "0")}`;
}
