/** Which two snapshots a screen draws between, and how far: the view that claims carry. */

import type { View } from "./messages.js";

const WINDOW_S = 2, KEPT = 64;

/** Keeps what arrived, and follows the fastest arrivals: lateness of some doesn't move the picture. */
export class Playout {
  private times: number[] = [];
  private ticks: number[] = [];
  private trips: { at: number; trip: number }[] = [];

  /** delayS : how far behind the newest possible picture is drawn; two or three snapshots' time hides what comes late */
  constructor(readonly delayS: number) {}

  /** A snapshot arrived, at a time of this client's own clock. Snapshots that come twice or out of order are fine. */
  take(tick: number, serverTime: number, clientTime: number): void {
    const place = firstNotBelow(this.times, serverTime);
    if (this.times[place] === serverTime) return;
    this.times.splice(place, 0, serverTime);
    this.ticks.splice(place, 0, tick);
    const trip = clientTime - serverTime;
    while (this.trips.length && this.trips[this.trips.length - 1].trip >= trip) this.trips.pop();
    this.trips.push({ at: clientTime, trip });
    while (this.trips[0].at < clientTime - WINDOW_S) this.trips.shift();
    if (this.times.length > KEPT) (this.times.shift(), this.ticks.shift());
  }

  /** What to draw at a time of this client's clock; null before anything can be. When nothing newer came, the newest. */
  view(clientTime: number): View | null {
    if (!this.trips.length) return null;
    const at = clientTime - this.trips[0].trip - this.delayS;
    let place = firstNotBelow(this.times, at);
    if (this.times[place] === at) place += 1;
    if (place === 0) return null;
    if (place === this.times.length) return [this.ticks[place - 1], this.ticks[place - 1], 0];
    const [from, to] = [this.times[place - 1], this.times[place]];
    return [this.ticks[place - 1], this.ticks[place], (at - from) / (to - from)];
  }
}

function firstNotBelow(times: number[], value: number): number {
  let [low, high] = [0, times.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (times[middle] < value) low = middle + 1;
    else high = middle;
  }
  return low;
}
