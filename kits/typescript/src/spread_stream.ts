/** Where shots really go: recoil and spread on top of the aim, from a keyed stream that the server computes too. */

import { blake2b } from "./blake2b.js";
import type { Triple } from "./messages.js";

/** `spread` of a weapon in the client's bundle. */
export interface SpreadRules {
  base_deg: number; moving_deg: number; moving_at_m_s: number; per_shot_deg: number; recovery_deg_per_s: number;
  max_deg: number; flat: boolean;
}
/** `recoil` of a weapon in the client's bundle: (up, left) of each shot in a row. */
export interface RecoilRules { pattern_deg: [number, number][]; reset_s: number }
/** What of a weapon's table the stream needs. */
export interface WeaponSpread { pellets: number; spread: SpreadRules | null; recoil: RecoilRules | null }

const STEEP = 1e-9;
const radians = (degrees: number) => (degrees * Math.PI) / 180;

/** Two evenly spread numbers in [0, 1) for one pellet (from 0) of one shot (from 1). key : the `spread_key`, as bytes */
export function draws(key: Uint8Array, weapon: string, shot: number, pellet: number): [number, number] {
  const name = new TextEncoder().encode(weapon);
  const text = new Uint8Array(name.length + 17), view = new DataView(text.buffer);
  text.set(name);
  view.setBigUint64(name.length + 1, BigInt(shot), true);
  view.setBigUint64(name.length + 9, BigInt(pellet), true);
  const digest = blake2b(text, key, 16), numbers = new DataView(digest.buffer, digest.byteOffset);
  const number = (at: number) => Number(numbers.getBigUint64(at, true) >> 11n) * 2 ** -53;
  return [number(0), number(8)];
}

/** A unit direction moved by two tangents of angles, to its left and upwards. */
export function turned([x, y, z]: Triple, left: number, up: number): Triple {
  const level = Math.hypot(x, y);
  const [a, b] = level > STEEP ? [-y / level, x / level] : [0, 1];
  const [ux, uy, uz] = [-z * b, z * a, x * b - y * a];
  const [p, q, r] = [x + left * a + up * ux, y + left * b + up * uy, z + up * uz];
  const length = Math.sqrt(p * p + q * q + r * r);
  return [p / length, q / length, r / length];
}

/** Spread and recoil of one weapon in one entity's hands. */
export class SpreadStream {
  private heat = 0;
  private lastAt = -Infinity;
  private row = 0;

  constructor(readonly key: Uint8Array, readonly weapon: string, private readonly rules: WeaponSpread) {}

  /** Forget earlier shots: a new life. */
  rest(): void {
    [this.heat, this.lastAt, this.row] = [0, -Infinity, 0];
  }

  /** Half the angle of the cone that a shot at a time would be drawn from, radians. */
  spreadRad(at: number, speed: number): number {
    const spread = this.rules.spread;
    if (!spread) return 0;
    const moving = spread.moving_deg * Math.min(1, speed / spread.moving_at_m_s);
    return radians(Math.min(spread.base_deg + moving + this.heatAt(at), spread.max_deg));
  }

  private heatAt(at: number): number {
    const spread = this.rules.spread;
    if (!spread || this.heat === 0) return 0;
    return Math.max(0, this.heat - spread.recovery_deg_per_s * Math.max(0, at - this.lastAt));
  }

  /**
   * Where the pellets of a shot go, and remember it.
   * direction : the aim, of unit length; at : seconds of one clock; shot : its number, from 1; speed : of the shooter, m/s
   */
  rays(direction: Triple, at: number, shot: number, speed = 0): Triple[] {
    const { spread, recoil, pellets } = this.rules;
    if (!spread && !recoil) return Array.from({ length: pellets }, () => direction);
    if (recoil) {
      this.row = at - this.lastAt > recoil.reset_s ? 0 : this.row;
      const [up, left] = recoil.pattern_deg[Math.min(this.row, recoil.pattern_deg.length - 1)] ?? [0, 0];
      this.row += 1;
      direction = turned(direction, Math.tan(radians(left)), Math.tan(radians(up)));
    }
    let out = Array.from({ length: pellets }, () => direction);
    if (spread) {
      const widest = this.spreadRad(at, speed);
      if (widest > 0) out = out.map((aim, pellet) => this.stray(aim, widest, spread.flat, shot, pellet));
      this.heat = Math.min(this.heatAt(at) + spread.per_shot_deg, spread.max_deg);
    }
    this.lastAt = Math.max(this.lastAt, at);
    return out;
  }

  private stray(aim: Triple, widest: number, flat: boolean, shot: number, pellet: number): Triple {
    const [u, v] = draws(this.key, this.weapon, shot, pellet);
    if (flat) return turned(aim, Math.tan(widest * (2 * u - 1)), 0);
    const angle = widest * Math.sqrt(u), turn = 2 * Math.PI * v;
    return turned(aim, Math.tan(angle) * Math.cos(turn), Math.tan(angle) * Math.sin(turn));
  }
}
