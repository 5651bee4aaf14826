// The poses of a match, second by second as they are asked for, and any body at any time between two ticks.
import {askBytes, matchPath} from "./asking.js";
import {between} from "/static/drawing/bodies.js";
import {unpack} from "/static/drawing/packed.js";

const KEPT = 90, AHEAD = 3;

export class Poses {
  constructor(info, onArrival) {
    this.info = info;
    this.onArrival = onArrival;
    this.windows = new Map();
    this.asked = new Map();
    this.problem = "";
  }

  numberAt(t) { return Math.max(0, Math.floor((t - this.info.begins) / this.info.window_s)); }

  get last() { return this.numberAt(this.info.ends); }

  async fetch(number) {
    if (this.asked.has(number) || number > this.last) return;
    const promise = askBytes(`${matchPath(this.info.name)}/window/${number}`);
    this.asked.set(number, promise);
    try {
      const {head, numbers} = unpack(await promise);
      const bodies = new Map(head.bodies.map(body => [body.entity, body]));
      this.windows.set(number, {...head, numbers, bodies, sentRows: head.sent.flatMap((yes, k) => (yes ? [k] : []))});
      for (const old of this.windows.keys()) {
        if (this.windows.size <= KEPT) break;
        if (Math.abs(old - number) > AHEAD + 2) { this.windows.delete(old); this.asked.delete(old); }
      }
      this.problem = "";
      this.onArrival(number);
    } catch (error) {
      this.problem = error.message;
      setTimeout(() => this.asked.delete(number), 500);
    }
  }

  // more was written: windows that weren't whole are asked for again, and stay in use until the new ones come
  stale() {
    for (const [number, one] of this.windows) if (!one.whole) this.asked.delete(number);
  }

  want(t, ahead = AHEAD) {
    const number = this.numberAt(t);
    this.fetch(number);
    if (!this.windows.has(number)) return;  // what is looked at comes first
    for (let k = 1; k <= ahead; k++) this.fetch(number + k);
    if (t - this.info.begins - number * this.info.window_s < 0.3 && number > 0) this.fetch(number - 1);
  }

  at(t) { return this.windows.get(this.numberAt(t)) ?? null; }

  // Rows of a window around a time: [before, after, share]; only among snapshots where `sent`.
  rows(held, t, sent = false) {
    const {times, sentRows} = held, rows = sent ? sentRows : null, count = rows ? rows.length : times.length;
    if (!count) return null;
    const time = k => times[rows ? rows[k] : k];
    let low = 0, high = count - 1;
    if (t <= time(0)) return [rows ? rows[0] : 0, rows ? rows[0] : 0, 0];
    if (t >= time(high)) { const end = rows ? rows[high] : high; return [end, end, 0]; }
    while (high - low > 1) { const middle = (low + high) >> 1; if (time(middle) <= t) low = middle; else high = middle; }
    return [rows ? rows[low] : low, rows ? rows[high] : high, (t - time(low)) / (time(high) - time(low))];
  }

  // One body's bones at a time into `out`; returns how many numbers they are, 0 where it is absent or not yet read.
  body(entity, t, out, sent = false) {
    const held = this.at(t), body = held?.bodies.get(entity);
    if (!body) return 0;
    const found = this.rows(held, t, sent);
    if (!found) return 0;
    const [a, b, share] = found, count = 7 * body.bones, there = k => body.there === true || body.there[k] === 1;
    const near = share < 1 ? a : b;
    if (!there(near)) return 0;
    const other = there(a) && there(b) ? [a, b] : [near, near];
    between(held.numbers, body.at + other[0] * count, held.numbers, body.at + other[1] * count, share, count, out);
    return count;
  }

  // The time of the tick or snapshot before or after a time.
  step(t, way, snapshots) {
    const held = this.at(t);
    if (!held) return t;
    const times = snapshots ? held.sentRows.map(k => held.times[k]) : held.times;
    const next = way > 0 ? times.find(at => at > t + 1e-5) : times.findLast(at => at < t - 1e-5);
    return next ?? t + way / this.info.tick_rate_hz;
  }
}
