/** Generated from docs/schemas by `npm run generate`: change the schemas and run it again. */

export type WhatAClientSends =
  | Join
  | Pong
  | ViewReport
  | GameMessage
  | ShotClaim
  | LaunchClaim
  | ImpactClaim
  | MeleeClaim
  | TriggerClaim
  | WeaponActionClaim
  | UseClaim
  | MoveClaim
  | StatusClaim;
/**
 * View of a screen: `fraction` 0 is the snapshot `from_tick`, 1 is `to_tick`; more than 1 extrapolates.
 *
 * @minItems 3
 * @maxItems 3
 */
export type View = [number, number, number];

/**
 * A client says which versions it speaks, and what it was built with.
 *
 * digests : of the parts of its bundle, by their names; empty where it has none
 */
export interface Join {
  kind: "join";
  /**
   * @minItems 1
   * @maxItems 16
   */
  versions: number[];
  digests?: {
    [k: string]: string;
  };
}
/**
 * A client answers a ping at once, with its own clock.
 */
export interface Pong {
  kind: "pong";
  nonce: number;
  client_time: number;
}
/**
 * A client says what its screen is drawing now; a few a second, from clients that don't report moves.
 *
 * from_tick, to_tick, fraction : the two snapshots that it draws between, and how far it is from one to the other
 * client_time : its own clock then
 */
export interface ViewReport {
  kind: "view_report";
  from_tick: number;
  to_tick: number;
  fraction: number;
  client_time: number;
}
/**
 * A message of the game's own, such as chat or an emote, in either direction.
 *
 * body : anything that JSON and MessagePack can hold; the gateway passes it on unread
 */
export interface GameMessage {
  kind: "game";
  body?: {
    [k: string]: unknown;
  };
}
/**
 * A client reports a shot.
 *
 * origin : where the ray starts
 * direction : where the player aims; recoil and spread come on top, by the server's tables
 * view : what the client's screen was drawing; a client that can't say sends `client_time` instead
 * client_time : what the client's own clock showed, in seconds; besides, it times recovery between shots
 * shot : which shot of this weapon in this match it is, from 1: selects the spread. Without it, the next
 * charge : what the weapon was charged to, 0 to 1
 * relative_to : the vehicle that it rides, where `origin` is in the frame of its first bone, as the view shows it
 */
export interface ShotClaim {
  kind: "shot";
  sequence: number;
  actor: number;
  weapon: string;
  /**
   * @minItems 3
   * @maxItems 3
   */
  origin: [number, number, number];
  /**
   * @minItems 3
   * @maxItems 3
   */
  direction: [number, number, number];
  view?: View | null;
  victim?: number | null;
  part?: string | null;
  damage?: number | null;
  client_time?: number | null;
  shot?: number | null;
  charge?: number | null;
  relative_to?: number | null;
}
/**
 * A client reports the launch of a projectile. The fields are a shot's; the receipt names the projectile.
 */
export interface LaunchClaim {
  kind: "launch";
  sequence: number;
  actor: number;
  weapon: string;
  /**
   * @minItems 3
   * @maxItems 3
   */
  origin: [number, number, number];
  /**
   * @minItems 3
   * @maxItems 3
   */
  direction: [number, number, number];
  view?: View | null;
  client_time?: number | null;
  shot?: number | null;
  charge?: number | null;
  relative_to?: number | null;
}
/**
 * A client reports a hit by its projectile.
 *
 * projectile : its id, from the launch's receipt; flight_time_s : how long it had flown; position : where its middle
 * was
 */
export interface ImpactClaim {
  kind: "impact";
  sequence: number;
  actor: number;
  projectile: number;
  flight_time_s: number;
  /**
   * @minItems 3
   * @maxItems 3
   */
  position: [number, number, number];
  victim: number;
  part?: string | null;
}
/**
 * A client reports a melee attack. The fields are a shot's.
 */
export interface MeleeClaim {
  kind: "melee";
  sequence: number;
  actor: number;
  weapon: string;
  /**
   * @minItems 3
   * @maxItems 3
   */
  origin: [number, number, number];
  /**
   * @minItems 3
   * @maxItems 3
   */
  direction: [number, number, number];
  view?: View | null;
  victim?: number | null;
  part?: string | null;
  damage?: number | null;
  client_time?: number | null;
  relative_to?: number | null;
}
/**
 * A client reports its fire button, held or not, and the aim. The server fires.
 */
export interface TriggerClaim {
  kind: "trigger";
  sequence: number;
  actor: number;
  weapon: string;
  held: boolean;
  /**
   * @minItems 3
   * @maxItems 3
   */
  direction: [number, number, number];
  view?: View | null;
  client_time?: number | null;
}
/**
 * A client does something with a weapon: takes it in hand, reloads it, begins to charge it, or breaks off.
 */
export interface WeaponActionClaim {
  kind: "weapon_action";
  sequence: number;
  actor: number;
  weapon: string;
  action: "charge" | "draw" | "reload" | "stop";
}
/**
 * A client uses an item, on itself unless it names a team-mate.
 */
export interface UseClaim {
  kind: "use";
  sequence: number;
  actor: number;
  item: string;
  target?: number | null;
}
/**
 * A client reports where its body went.
 *
 * position : metres, the body's foot
 * client_time : seconds of the client's own clock; rises from report to report
 * push : what its player pushed, of length at most 1; only flagged when it is longer
 * relative_to : the vehicle that it rides, where `position` is in the frame of the vehicle's first bone
 * view : what its screen showed at `client_time`: says its lag, which shots are held against
 */
export interface MoveClaim {
  kind: "move";
  sequence: number;
  actor: number;
  /**
   * @minItems 3
   * @maxItems 3
   */
  position: [number, number, number];
  client_time: number;
  push?: [number, number, number] | null;
  view?: View | null;
  relative_to?: number | null;
}
/**
 * A client reports its own state. The receipt returns the true one.
 *
 * client_time, view : seconds of its own clock, and what its screen showed then: together they say its lag
 */
export interface StatusClaim {
  kind: "status";
  sequence: number;
  actor: number;
  health?: number | null;
  armour?: number | null;
  ammunition?: number | null;
  position?: [number, number, number] | null;
  client_time?: number | null;
  view?: View | null;
}
