/** Messages between a client and a server, to and from bytes. JSON and MessagePack carry the same fields. */

import { pack, unpack } from "./bytes.js";
import type {
  WeaponActionClaim, ImpactClaim, LaunchClaim, MoveClaim, ShotClaim, StatusClaim, MeleeClaim, TriggerClaim, UseClaim,
  WhatAClientSends as FromClient,
} from "./from_client.js";
import type { EventBatch, WhatAClientIsSent as ToClient } from "./to_client.js";

export type {
  WeaponActionClaim, ImpactClaim, Join, LaunchClaim, MoveClaim, Pong, ViewReport, ShotClaim, StatusClaim, MeleeClaim,
  TriggerClaim, UseClaim, View, WhatAClientSends as FromClient,
} from "./from_client.js";
export type {
  ActorState, ReceiptMessage, Effect, EntityState, InFlight, JoinAccepted, LaunchEvent, Motion, EventBatch, Ping, Receipt, ReceiptHit, JoinRefused,
  ScoreRow, State, WhatAClientIsSent as ToClient, FullState,
} from "./to_client.js";

export type Triple = [number, number, number];
export type Form = "json" | "msgpack";
export type Claim =
  | WeaponActionClaim | ImpactClaim | LaunchClaim | MoveClaim | ShotClaim | StatusClaim | MeleeClaim | TriggerClaim | UseClaim;
/** A claim before it has a number: `Connection.claim` gives it one, and the actor. */
export type Unnumbered = Claim extends infer One ? (One extends Claim ? Omit<One, "sequence" | "actor"> : never) : never;
/** A published change; its `kind` says which. */
export type PublishedEvent = EventBatch["events"][number];

const KINDS = new Set(["join_accepted", "join_refused", "ping", "receipt", "events", "full_state", "game"]);

/** Write a message for the server. */
export function encode(message: FromClient, form: Form = "msgpack"): Uint8Array {
  return form === "json" ? new TextEncoder().encode(JSON.stringify(message)) : pack(message);
}

/** Read a message of the server's; null for any other kind. Bad bytes throw `RangeError`. */
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
