/** Which two snapshots a screen draws between, and how far: the view that claims carry. */

import type { View } from "./messages.js";

const WINDOW_S = 2, KEPT = 64;

interface Arrived { tick: number; serverTime: number }

/** Keeps what arrived, and follows the fastest arrivals: lateness of some doesn't move the picture. */
export class Playout {
  private arrived: Arrived[] = [];
  private trips: { at: number; trip: number }[] = [];
  private shown: View | null = null;

  /** delayS : how far behind the newest possible picture is drawn; two or three snapshots' time hides what comes late */
  constructor(readonly delayS: number) {}

  /** A snapshot arrived, at a time of this client's own clock. Snapshots that come twice or out of order are fine. */
  addSnapshot(tick: number, serverTime: number, clientTime: number): void {
    const place = this.firstNotBelow(serverTime);
    if (this.arrived[place]?.serverTime === serverTime) return;
    this.arrived.splice(place, 0, { tick, serverTime });
    const trip = clientTime - serverTime;
    this.trips = [...this.trips.filter((one) => one.trip < trip && one.at >= clientTime - WINDOW_S), { at: clientTime, trip }];
    if (this.arrived.length > KEPT) this.arrived.shift();
  }

  /**
   * Begin a frame: return what to draw at a time of this client's clock; null before anything can be drawn.
   * When nothing newer came, the newest. Call it once for each frame: claims carry the view of the frame that was drawn last.
   */
  draw(clientTime: number): View | null {
    this.shown = this.viewAt(clientTime);
    return this.shown;
  }

  /** The view of the frame on the screen: what the player aimed at. Null before the first one. */
  get drawn(): View | null {
    return this.shown;
  }

  private viewAt(clientTime: number): View | null {
    const fastest = this.trips[0];
    if (!fastest) return null;
    const at = clientTime - fastest.trip - this.delayS;
    let place = this.firstNotBelow(at);
    if (this.arrived[place]?.serverTime === at) place += 1;
    const from = this.arrived[place - 1], to = this.arrived[place];
    if (!from) return null;
    if (!to) return [from.tick, from.tick, 0];
    return [from.tick, to.tick, (at - from.serverTime) / (to.serverTime - from.serverTime)];
  }

  private firstNotBelow(serverTime: number): number {
    const place = this.arrived.findIndex((one) => one.serverTime >= serverTime);
    return place < 0 ? this.arrived.length : place;
  }
}
