/** Generated from docs/schemas by `npm run generate`: change the schemas and run it again. */

export type WhatAClientIsSent =
  JoinAccepted | JoinRefused | Ping | ReceiptMessage | EventBatch | FullState | GameMessage;

/**
 * A client is in.
 *
 * version : what is spoken from now on
 * entity : its own; 0 for a spectator
 * spread_key : for its own spread, hexadecimal
 * next_sequence : what its next claim must count on from
 * same_rules : whether it was built with the rules that count here; if not, what it predicts will be off
 * state : everything that is published
 */
export interface JoinAccepted {
  kind: "join_accepted";
  version: number;
  entity: number;
  spread_key: string;
  next_sequence: number;
  tick_rate_hz: number;
  snapshot_every: number;
  same_rules: boolean;
  state: State;
}
/**
 * Everything that clients may read, as it was after event `number`. Rows are in order of entity.
 *
 * keep_disconnected : whether rows of those who left stay
 */
export interface State {
  number: number;
  server_time: number;
  entities?: EntityState[];
  rows?: ScoreRow[];
  teams?: {
    [k: string]: number;
  };
  leader?: number;
  keep_disconnected?: boolean;
  projectiles?: InFlight[];
  phase?: string;
}
/**
 * One entity as everybody may know it.
 *
 * controller : the entity of the player that acts for it, where that isn't its own
 * max_health : points, where the server set it; counters : those that changed since the start
 * vehicle : the entity that it rides, 0 for none; stance : as the server set it
 */
export interface EntityState {
  entity: number;
  rig: string;
  name?: string;
  team?: string;
  weapon?: string;
  controller?: number;
  alive?: boolean;
  life?: number;
  health?: number;
  armour?: number;
  effects?: Effect[];
  max_health?: number | null;
  counters?: {
    [k: string]: number;
  };
  vehicle?: number;
  stance?: string;
}
/**
 * Something that lasts until a server time.
 */
export interface Effect {
  what: string;
  until: number;
  amount: number;
}
/**
 * One row of the board.
 */
export interface ScoreRow {
  entity: number;
  name?: string;
  team?: string;
  score?: number;
  kills?: number;
  deaths?: number;
  assists?: number;
  streak?: number;
}
/**
 * Something in the air: its launch event, and its target, if it has one.
 */
export interface InFlight {
  projectile: number;
  entity: number;
  weapon: string;
  server_time: number;
  /**
   * @minItems 3
   * @maxItems 3
   */
  position: [number, number, number];
  /**
   * @minItems 3
   * @maxItems 3
   */
  velocity: [number, number, number];
  motion: Motion;
  until: number;
  sequence?: number;
  target?: number;
}
/**
 * Published motion of a projectile: enough to draw it for its whole life.
 */
export interface Motion {
  radius_m?: number;
  gravity_m_s2?: number;
  drag_per_m?: number;
  /**
   * @minItems 3
   * @maxItems 3
   */
  wind_m_s?: [number, number, number];
  thrust_m_s2?: number;
  thrust_s?: number;
  turn_deg_per_s?: number;
  on_level?: string;
  restitution?: number;
  friction?: number;
  rest_below_m_s?: number;
  max_bounces?: number;
}
/**
 * A client can't join; `versions` is what the server speaks.
 */
export interface JoinRefused {
  kind: "join_refused";
  reason: "not_a_join" | "version";
  versions?: number[];
}
/**
 * A server asks for the client's clock.
 */
export interface Ping {
  kind: "ping";
  nonce: number;
}
/**
 * Result of a claim.
 */
export interface ReceiptMessage {
  kind: "receipt";
  receipt: Receipt;
}
/**
 * Answer to a client's claim: the result and the true state, never the reason of a check or its numbers.
 */
export interface Receipt {
  sequence: number;
  outcome: "accepted" | "adjusted" | "rejected";
  hits?: ReceiptHit[];
  state?: ActorState | null;
}
/**
 * Hits of the client: victim, part and points.
 */
export interface ReceiptHit {
  victim: number;
  part: string;
  damage: number;
  lethal?: boolean;
}
/**
 * Server's state of an actor after a claim, by which its client corrects itself.
 *
 * last_sequence : the highest that was ruled
 * magazine, reserve : None where they never run out
 * shots : how many of this weapon were spent, which numbers the next
 * ready_in_s : until the weapon fires again
 * position : where moves were accepted to; None where the server does the moving
 * input : sequence of the newest input that the server simulated, where the server moves the body
 * projectiles : ids of what a launch let fly, in the order of its pellets
 */
export interface ActorState {
  entity: number;
  last_sequence: number;
  health: number;
  armour?: number;
  weapon?: string;
  magazine?: number | null;
  reserve?: number | null;
  shots?: number;
  ready_in_s?: number;
  item?: string;
  items_left?: number;
  item_ready_in_s?: number;
  position?: [number, number, number] | null;
  projectiles?: number[];
  input?: number;
}
/**
 * Changes for every client.
 */
export interface EventBatch {
  kind: "events";
  events: (
    | JoinedEvent
    | LeftEvent
    | SpawnEvent
    | HealthEvent
    | ArmourEvent
    | DeathEvent
    | EffectEvent
    | TeamEvent
    | VehicleEvent
    | StanceEvent
    | MaxHealthEvent
    | CounterEvent
    | PhaseEvent
    | PushEvent
    | ShotEvent
    | WeaponEvent
    | ControlEvent
    | ScoreEvent
    | LeaderEvent
    | LaunchEvent
    | HomingEvent
    | EndEvent
    | RulesEvent
  )[];
}
/**
 * An entity is there from now on.
 *
 * player : whether it is a player, with a row on the board
 * life, alive, health, armour : of a player that came back; a new entity spawns with the next event
 */
export interface JoinedEvent {
  kind: "joined";
  number: number;
  server_time: number;
  entity: number;
  rig: string;
  name?: string;
  team?: string;
  weapon?: string;
  player?: boolean;
  life?: number;
  alive?: boolean;
  health?: number;
  armour?: number;
}
/**
 * An entity is gone for good.
 */
export interface LeftEvent {
  kind: "left";
  number: number;
  server_time: number;
  entity: number;
}
/**
 * A life begins, with full health and without effects.
 */
export interface SpawnEvent {
  kind: "spawn";
  number: number;
  server_time: number;
  entity: number;
  life: number;
  health: number;
}
/**
 * Somebody's health changed, down or up, by `amount` points.
 */
export interface HealthEvent {
  kind: "health";
  number: number;
  server_time: number;
  entity: number;
  cause?: string;
  actor?: number;
  weapon?: string;
  part?: string;
  amount?: number;
  before?: number;
  after?: number;
}
/**
 * Somebody's armour changed, down or up, by `amount` points.
 */
export interface ArmourEvent {
  kind: "armour";
  number: number;
  server_time: number;
  entity: number;
  cause?: string;
  actor?: number;
  weapon?: string;
  part?: string;
  amount?: number;
  before?: number;
  after?: number;
}
/**
 * A life ended.
 *
 * position, direction, force_n_s : place of the hit in metres, unit direction of the damage, push in newton seconds
 */
export interface DeathEvent {
  kind: "death";
  number: number;
  server_time: number;
  entity: number;
  cause?: string;
  actor?: number;
  weapon?: string;
  part?: string;
  position?: [number, number, number] | null;
  direction?: [number, number, number] | null;
  force_n_s?: number | null;
}
/**
 * An effect began, or changed when it ends: at once where `until` isn't later than the event.
 */
export interface EffectEvent {
  kind: "effect";
  number: number;
  server_time: number;
  entity: number;
  effect: "boost" | "free_movement" | "shield" | "speed";
  until: number;
  amount?: number;
  cause?: string;
}
/**
 * An entity changed its team.
 */
export interface TeamEvent {
  kind: "team";
  number: number;
  server_time: number;
  entity: number;
  team?: string;
}
/**
 * An entity rides another from now on; vehicle 0: none.
 */
export interface VehicleEvent {
  kind: "vehicle";
  number: number;
  server_time: number;
  entity: number;
  vehicle?: number;
}
/**
 * The server set the stance of an entity; "" for the usual one.
 */
export interface StanceEvent {
  kind: "stance";
  number: number;
  server_time: number;
  entity: number;
  stance?: string;
}
/**
 * An entity begins its lives with another health, in points, and heals up to that.
 */
export interface MaxHealthEvent {
  kind: "max_health";
  number: number;
  server_time: number;
  entity: number;
  health: number;
}
/**
 * A counter of the game's own changed.
 */
export interface CounterEvent {
  kind: "counter";
  number: number;
  server_time: number;
  entity: number;
  counter: string;
  value: number;
  cause?: string;
}
/**
 * Another phase of the match began; "" for none. Its entity is 0.
 */
export interface PhaseEvent {
  kind: "phase";
  number: number;
  server_time: number;
  entity: number;
  phase?: string;
}
/**
 * The server pushed a body. velocity : added to its own, metres per second; until : server time of its end
 */
export interface PushEvent {
  kind: "push";
  number: number;
  server_time: number;
  entity: number;
  /**
   * @minItems 3
   * @maxItems 3
   */
  velocity: [number, number, number];
  until: number;
}
/**
 * A shot or a melee attack was committed: enough to draw it.
 *
 * sequence : the claim, of its owner's client; start : metres; ends : where each ray ended, in the order of its rays
 */
export interface ShotEvent {
  kind: "shot";
  number: number;
  server_time: number;
  entity: number;
  weapon: string;
  /**
   * @minItems 3
   * @maxItems 3
   */
  start: [number, number, number];
  ends?: ShotEnd[];
  sequence?: number;
}
/**
 * End of a ray. position : metres; victim, part : the body that it met; surface : of the level or of cover
 */
export interface ShotEnd {
  /**
   * @minItems 3
   * @maxItems 3
   */
  position: [number, number, number];
  victim?: number;
  part?: string;
  surface?: string;
}
/**
 * Somebody took another weapon in hand.
 */
export interface WeaponEvent {
  kind: "weapon";
  number: number;
  server_time: number;
  entity: number;
  weapon: string;
}
/**
 * Somebody else acts for an entity from now on. controller : whose player; 0 for its own, or the server.
 */
export interface ControlEvent {
  kind: "control";
  number: number;
  server_time: number;
  entity: number;
  controller?: number;
}
/**
 * A column of the board changed: of an entity's row, or with entity 0 the score of a team.
 */
export interface ScoreEvent {
  kind: "score";
  number: number;
  server_time: number;
  entity: number;
  column: string;
  before: number;
  after: number;
  cause?: string;
  team?: string;
}
/**
 * Somebody else leads; entity 0 for nobody.
 */
export interface LeaderEvent {
  kind: "leader";
  number: number;
  server_time: number;
  entity: number;
}
/**
 * Something flies from now on, and how: enough for a client to draw all of it.
 *
 * projectile : its id; sequence : the claim that launched it, of its owner's client; position : metres;
 * velocity : metres a second; until : when it ends at the latest
 */
export interface LaunchEvent {
  kind: "launch";
  number: number;
  server_time: number;
  entity: number;
  weapon: string;
  projectile: number;
  /**
   * @minItems 3
   * @maxItems 3
   */
  position: [number, number, number];
  /**
   * @minItems 3
   * @maxItems 3
   */
  velocity: [number, number, number];
  motion: Motion;
  until: number;
  sequence?: number;
}
/**
 * A projectile follows somebody from now on; target 0 for nobody.
 */
export interface HomingEvent {
  kind: "homing";
  number: number;
  server_time: number;
  entity: number;
  projectile: number;
  target?: number;
}
/**
 * A flight ended. victim, part : the body that it ended at; surface : of the level, where it ended at that.
 */
export interface EndEvent {
  kind: "end";
  number: number;
  server_time: number;
  entity: number;
  projectile: number;
  /**
   * @minItems 3
   * @maxItems 3
   */
  position: [number, number, number];
  cause: string;
  weapon?: string;
  victim?: number;
  part?: string;
  surface?: string;
}
/**
 * Other rules hold from now on. digests : of the parts that clients are given, by name, as in a client's bundle
 */
export interface RulesEvent {
  kind: "rules";
  number: number;
  server_time: number;
  entity: number;
  digests: {
    [k: string]: string;
  };
}
/**
 * The published state, complete, for one who missed too much.
 */
export interface FullState {
  kind: "full_state";
  state: State;
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
