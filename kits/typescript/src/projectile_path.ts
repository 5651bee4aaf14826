/**
 * The path of something launched: cubics in time, leg by leg, as the server computes them (its `kernels/trajectory`).
 * Without drag a leg is exact; with drag it is one step of the classical fourth-order Runge-Kutta method.
 */

import type { Motion, Triple } from "./messages.js";

/** A flat surface: everything at `normal . p < offset` is behind it. normal : of unit length */
export interface Plane { normal: Triple; offset: number }
export interface Bounce { server_time: number; position: Triple; normal: Triple; rests: boolean }
/** One after the other, at least one. */
type Legs = [Leg, ...Leg[]];
interface Leg { start: number; end: number; c0: Triple; c1: Triple; c2: Triple; c3: Triple; atRest: boolean }

const LONGEST_STEP_S = 1 / 16, HOMING_STEP_S = 1 / 256, FINEST = 0.05, TINY = 1e-15, SKIN_M = 1e-5, LOOK_S = 1 / 512;
const NONE: Triple = [0, 0, 0];
const dot = (a: Triple, b: Triple) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
const sum = (a: Triple, b: Triple, times = 1): Triple => [a[0] + times * b[0], a[1] + times * b[1], a[2] + times * b[2]];
const scaled = (a: Triple, by: number): Triple => [a[0] * by, a[1] * by, a[2] * by];
const size = (a: Triple) => Math.sqrt(dot(a, a));

export class ProjectilePath {
  readonly bounces: Bounce[] = [];
  /** When it ended at a surface, its range or its last instant, as far as it was followed. */
  endedAt = Infinity;
  private readonly legs: Legs;
  private readonly push: Triple;
  private readonly thrustEnd: number;
  private done: number;

  /**
   * motion : from the launch event; start : server time; position, velocity : metres and m/s
   * planes : what it meets (ground and walls); of other surfaces say so with `bounce`
   * last : server time after which it is gone; target : where what homes is going
   */
  constructor(
    readonly motion: Motion, start: number, position: Triple, velocity: Triple,
    private readonly planes: Plane[] = [], private readonly last = Infinity, public target: Triple | null = null,
  ) {
    const thrust = motion.thrust_m_s2 ?? 0;
    this.push = scaled(velocity, thrust / size(velocity));
    this.thrustEnd = thrust > 0 ? start + (motion.thrust_s ?? 0) : -Infinity;
    this.done = start;
    this.legs = [this.leg(start, position, velocity, false)];
  }

  /** Place and velocity at a server time; before the launch and after the end, those there. */
  at(serverTime: number): { position: Triple; velocity: Triple } {
    const from = Math.max(serverTime, this.legs[0].start);
    this.followTo(from);
    const t = Math.min(from, this.endedAt);
    let leg = this.legs[0];
    for (const one of this.legs) if (one.start <= t) leg = one;
    return { position: placeOn(leg, t), velocity: speedOn(leg, t) };
  }

  /** It came off (or to rest on) a surface at a time: normal : straight off it, of unit length. */
  bounce(at: number, normal: Triple): void {
    const { motion } = this, leg = this.newest;
    const position = placeOn(leg, at), velocity = speedOn(leg, at);
    if ((motion.on_level ?? "end") === "end" || ((motion.max_bounces ?? 0) > 0 && this.bounces.length >= motion.max_bounces!)) {
      this.endedAt = at;
      return;
    }
    const off = dot(velocity, normal), along = sum(velocity, normal, -off), back = -(motion.restitution ?? 0) * off;
    const rests = back < (motion.on_level === "stick" ? Infinity : motion.rest_below_m_s ?? 0);
    const away = sum(scaled(along, 1 - (motion.friction ?? 0)), normal, back);
    this.bounces.push({ server_time: at, position, normal, rests });
    this.legs.push(this.leg(at, sum(position, normal, SKIN_M), away, rests));
    this.done = at;
  }

  private get newest(): Leg {
    return this.legs.at(-1) ?? this.legs[0];
  }

  private followTo(until: number): void {
    while (this.done < until && this.endedAt === Infinity) {
      let leg = this.newest;
      if (this.done >= this.last) {
        this.endedAt = this.last;
        return;
      }
      if (this.done >= leg.end) {
        leg = this.leg(leg.end, placeOn(leg, leg.end), speedOn(leg, leg.end), leg.atRest);
        this.legs.push(leg);
      }
      const to = Math.min(until, leg.end), met = leg.atRest ? null : this.meets(leg, this.done, to);
      if (met) this.bounce(met.at, met.plane.normal);
      else this.done = to;
    }
  }

  /** The first surface that the leg meets between two times. */
  private meets(leg: Leg, from: number, to: number): { at: number; plane: Plane } | null {
    const radius = this.motion.radius_m ?? 0;
    let best: { at: number; plane: Plane } | null = null;
    for (const plane of this.planes) {
      const gap = (t: number) => dot(plane.normal, placeOn(leg, t)) - plane.offset - radius;
      const pieces = Math.max(1, Math.ceil((to - from) / LOOK_S));
      for (let k = 0; k < pieces; k++) {
        let low = from + ((to - from) * k) / pieces, high = k + 1 === pieces ? to : from + ((to - from) * (k + 1)) / pieces;
        if (gap(high) > 0 || dot(plane.normal, speedOn(leg, high)) >= 0) continue;
        for (let step = 0; step < 60 && high - low > TINY * Math.abs(high); step++) {
          const middle = 0.5 * (low + high);
          if (gap(middle) > 0) low = middle;
          else high = middle;
        }
        if (!best || high < best.at) best = { at: high, plane };
        break;
      }
    }
    return best;
  }

  private pull(velocity: Triple, thrusting: boolean): Triple {
    let out: Triple = [0, 0, -(this.motion.gravity_m_s2 ?? 0)];
    if (thrusting) out = sum(out, this.push);
    const drag = this.motion.drag_per_m ?? 0;
    if (drag > 0) {
      const wind = sum(velocity, this.motion.wind_m_s ?? NONE, -1);
      out = sum(out, wind, -drag * size(wind));
    }
    return out;
  }

  private leg(t: number, position: Triple, velocity: Triple, atRest: boolean): Leg {
    const leg: Leg = { start: t, end: this.last, c0: position, c1: atRest ? NONE : velocity, c2: NONE, c3: NONE, atRest };
    if (atRest) return leg;
    if ((this.motion.turn_deg_per_s ?? 0) > 0) return this.arc(leg, velocity);
    const thrusting = t < this.thrustEnd, drag = this.motion.drag_per_m ?? 0;
    if (thrusting) leg.end = Math.min(leg.end, this.thrustEnd);
    const a = this.pull(velocity, thrusting);
    if (drag === 0) {
      leg.c2 = scaled(a, 0.5);
      return leg;
    }
    const fast = drag * size(sum(velocity, this.motion.wind_m_s ?? NONE, -1));
    let h = fast * LONGEST_STEP_S <= FINEST ? LONGEST_STEP_S : FINEST / fast;
    h = Math.min(Math.max(h, TINY * Math.abs(t)), leg.end - t);
    leg.end = t + h;
    const b = this.pull(sum(velocity, a, 0.5 * h), thrusting), c = this.pull(sum(velocity, b, 0.5 * h), thrusting);
    const d = this.pull(sum(velocity, c, h), thrusting), sixth = h / 6;
    const three = sum(sum(a, b), c), six = sum(sum(a, d), sum(b, c), 2);
    return cubic(leg, h, velocity, sum(sum(position, velocity, h), three, h * sixth), sum(velocity, six, sixth));
  }

  private arc(leg: Leg, velocity: Triple): Leg {
    const speed = size(velocity);
    const h = Math.min(Math.max(HOMING_STEP_S, TINY * Math.abs(leg.start)), leg.end - leg.start);
    leg.end = leg.start + h;
    const to = this.target ? sum(this.target, leg.c0, -1) : NONE, apart = size(to);
    if (!(apart > 0 && speed > 0)) return leg;
    const ahead = scaled(velocity, 1 / speed), cosine = Math.min(1, Math.max(-1, dot(ahead, to) / apart));
    let aside = sum(scaled(to, 1 / apart), ahead, -cosine);
    const across = size(aside);
    if (across < 1e-12) return leg;
    const angle = Math.min((((this.motion.turn_deg_per_s ?? 0) * Math.PI) / 180) * h, Math.acos(cosine));
    aside = scaled(aside, 1 / across);
    const [c, s] = [Math.cos(angle), Math.sin(angle)];
    const then = sum(scaled(ahead, speed * c), aside, speed * s);
    const [along, out] = angle > 1e-9 ? [s / angle, (1 - c) / angle] : [1, 0];
    return cubic(leg, h, velocity, sum(sum(leg.c0, ahead, speed * h * along), aside, speed * h * out), then);
  }
}

function cubic(leg: Leg, h: number, velocity: Triple, then: Triple, velocityThen: Triple): Leg {
  if (h <= 0) return leg;
  const way = scaled(sum(then, leg.c0, -1), 1 / h);
  leg.c2 = scaled(sum(sum(scaled(way, 3), velocity, -2), velocityThen, -1), 1 / h);
  leg.c3 = scaled(sum(sum(velocity, velocityThen), way, -2), 1 / (h * h));
  return leg;
}

function placeOn({ start, c0, c1, c2, c3 }: Leg, t: number): Triple {
  const s = t - start, on = (k: 0 | 1 | 2) => c0[k] + s * (c1[k] + s * (c2[k] + s * c3[k]));
  return [on(0), on(1), on(2)];
}

function speedOn({ start, c1, c2, c3 }: Leg, t: number): Triple {
  const s = t - start, on = (k: 0 | 1 | 2) => c1[k] + s * (2 * c2[k] + 3 * s * c3[k]);
  return [on(0), on(1), on(2)];
}
