/** Messages between a client and a server, as types, and to and from bytes. JSON and MessagePack carry the same fields. */

import { pack, unpack } from "./bytes.js";

export type Triple = [number, number, number];
/** What the screen was drawing between: two snapshots' ticks, and how far it is from one to the other. */
export type View = [from_tick: number, to_tick: number, fraction: number];
export type Form = "json" | "msgpack";

interface Numbered { sequence: number; actor: number }
interface Aimed {
  weapon: string; origin: Triple; direction: Triple; view?: View | null; client_time?: number | null; shot?: number | null;
}
interface Believed { victim?: number | null; part?: string | null; damage?: number | null }

export type Shot = Numbered & Aimed & Believed & { kind: "shot" };
export type Launch = Numbered & Aimed & { kind: "launch" };
export type Strike = Numbered & Aimed & Believed & { kind: "strike" };
export type Impact = Numbered & { kind: "impact"; projectile: number; flown_s: number; position: Triple } & Believed;
export type Trigger = Numbered & {
  kind: "trigger"; weapon: string; held: boolean; direction?: Triple | null; view?: View | null; client_time?: number | null;
};
export type Handle = Numbered & { kind: "handle"; weapon: string; action: string };
export type Use = Numbered & { kind: "use"; item: string; target?: number };
export type Move = Numbered & {
  kind: "move"; position: Triple; client_time: number; view?: View | null; heading?: number | null;
};
export type Status = Numbered & { kind: "status"; health?: number | null; ammunition?: number | null };
export type Claim = Shot | Launch | Strike | Impact | Trigger | Handle | Use | Move | Status;
/** A claim before it has a number: `Connection.claim` gives it one, and the actor. */
export type Unnumbered = Claim extends infer One ? (One extends Claim ? Omit<One, "sequence" | "actor"> : never) : never;

export interface Join { kind: "join"; versions: number[]; digests?: Record<string, string> }
export interface Pong { kind: "pong"; nonce: number; client_time: number }
export interface Seen { kind: "seen"; from_tick: number; to_tick: number; fraction: number; client_time: number }
export type FromClient = Join | Pong | Seen | Claim;

export interface ActorState {
  entity: number; last_sequence: number; health: number; armour?: number; weapon?: string; magazine?: number | null;
  reserve?: number | null; shots?: number; ready_in_s?: number; item?: string; items_left?: number;
  item_ready_in_s?: number; position?: Triple | null; projectiles?: number[];
}
export interface Receipt {
  sequence: number; outcome: "upheld" | "amended" | "denied";
  hits?: { victim: number; part: string; damage: number; lethal?: boolean }[]; state?: ActorState | null;
}
/** A published change; `kind` says which, and `docs/messages.md` what each holds. */
export interface PublishedEvent { number: number; kind: string; server_time: number; entity: number; [field: string]: unknown }

export interface EntityState {
  entity: number; rig: string; name?: string; team?: string; weapon?: string; controller?: number; alive?: boolean;
  life?: number; health?: number; armour?: number; effects?: { what: string; until: number; amount: number }[];
}
export interface ScoreRow {
  entity: number; name?: string; team?: string; score?: number; kills?: number; deaths?: number; assists?: number; streak?: number;
}
export interface Motion {
  radius_m?: number; gravity_m_s2?: number; drag_per_m?: number; wind_m_s?: Triple; thrust_m_s2?: number; thrust_s?: number;
  turn_deg_per_s?: number; on_level?: string; restitution?: number; friction?: number; until_m_s?: number; most_bounces?: number;
}
export interface InFlight {
  projectile: number; entity: number; weapon: string; server_time: number; position: Triple; velocity: Triple;
  motion: Motion; until: number; sequence?: number; target?: number;
}
export interface State {
  number: number; server_time: number; entities: EntityState[]; rows: ScoreRow[]; teams?: Record<string, number>;
  leader?: number; keep_leavers?: boolean; projectiles?: InFlight[];
}

export interface Joined {
  kind: "joined"; version: number; entity: number; spread_key: string; next_sequence: number; tick_rate_hz: number;
  snapshot_every: number; same_rules: boolean; state: State;
}
export interface Refused { kind: "refused"; reason: "version" | "not_a_join"; versions: number[] }
export interface Ping { kind: "ping"; nonce: number }
export interface Answer { kind: "answer"; receipt: Receipt }
export interface News { kind: "news"; events: PublishedEvent[] }
export interface Whole { kind: "whole"; state: State }
export type ToClient = Joined | Refused | Ping | Answer | News | Whole;

const KINDS = new Set(["joined", "refused", "ping", "answer", "news", "whole"]);

/** A message for the server, as bytes. */
export function encode(message: FromClient, form: Form = "msgpack"): Uint8Array {
  return form === "json" ? new TextEncoder().encode(JSON.stringify(message)) : pack(message);
}

/** A message of the server's; null for what is none of those above, such as your game's own. Bad bytes throw `RangeError`. */
export function decode(bytes: Uint8Array): ToClient | null {
  let message: unknown;
  if (bytes[0] === 0x7b) {
    try {
      message = JSON.parse(new TextDecoder().decode(bytes));
    } catch {
      throw new RangeError("the message begins as JSON and isn't any");
    }
  } else message = unpack(bytes);
  const kind = (message as { kind?: unknown } | null)?.kind;
  return typeof kind === "string" && KINDS.has(kind) ? (message as ToClient) : null;
}

/** The bytes of a text of hexadecimal digits, such as `spread_key`. */
export function fromHex(text: string): Uint8Array {
  return Uint8Array.from(text.match(/../g) ?? [], (pair) => parseInt(pair, 16));
}
