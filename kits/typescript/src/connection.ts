/** One client's conversation with the server: join, clock, numbered claims that are repeated until they are answered. */

import type { Claim, Form, FromClient, Joined, Receipt, State, ToClient, Unnumbered } from "./messages.js";
import { encode } from "./messages.js";
import { follow, GapError } from "./state.js";

interface Waiting { claim: Claim; sentAt: number; times: number }

/** What the server made of something; your game draws, plays a sound or corrects itself by it. */
export interface Listener {
  joined?(joined: Joined): void;
  refused?(reason: string, versions: number[]): void;
  answered?(claim: Claim | null, receipt: Receipt): void;
  changed?(state: State): void;
}

const REPEAT_S = 0.25, MOST_REPEATS = 8, VERSIONS = [1];

export class Connection {
  entity = 0;
  /** The key of this client's spread, hexadecimal; see `Scatter`. */
  spreadKey = "";
  sameRules = true;
  state: State | null = null;
  private sequence = 0;
  private joinedIn = false;
  private joinSentAt = -Infinity;
  private readonly waiting = new Map<number, Waiting>();

  /**
   * send : puts bytes on the line, whatever it is; now : this client's own clock, seconds, which never runs back
   * digests : of the client's bundle, so that the server can say whether both go by the same rules
   */
  constructor(
    private readonly send: (bytes: Uint8Array) => void, private readonly now: () => number,
    private readonly listener: Listener = {}, private readonly digests: Record<string, string> = {},
    private readonly form: Form = "msgpack",
  ) {}

  /** Call it every frame or so: sends the join until it is answered, and claims that were lost again. */
  step(): void {
    const now = this.now();
    if (!this.joinedIn) {
      if (now - this.joinSentAt >= REPEAT_S) {
        this.joinSentAt = now;
        this.put({ kind: "join", versions: VERSIONS, digests: this.digests });
      }
      return;
    }
    for (const [sequence, one] of this.waiting) {
      if (now - one.sentAt < REPEAT_S * 2 ** Math.min(one.times, 3)) continue;
      if (one.times >= MOST_REPEATS) this.waiting.delete(sequence);
      else (one.sentAt = now), (one.times += 1), this.put(one.claim);
    }
  }

  /** Number a claim and send it; returns its number. Moves come all the time: they aren't repeated. */
  claim(claim: Unnumbered, actor = this.entity): number {
    if (!this.joinedIn) throw new Error("claims come after the join was answered");
    const numbered = { ...claim, sequence: ++this.sequence, actor } as Claim;
    if (numbered.kind !== "move") this.waiting.set(this.sequence, { claim: numbered, sentAt: this.now(), times: 0 });
    this.put(numbered);
    return this.sequence;
  }

  /** What the screen is drawing, a few times a second, from a client that doesn't say it in its moves. */
  seen(view: [number, number, number]): void {
    const [from_tick, to_tick, fraction] = view;
    this.put({ kind: "seen", from_tick, to_tick, fraction, client_time: this.now() });
  }

  /** Claims that were sent and not yet answered, in order. */
  get unanswered(): Claim[] {
    return [...this.waiting.values()].map((one) => one.claim);
  }

  /** Take a message of the server's, see `decode`; null is taken for nothing. */
  take(message: ToClient | null): void {
    if (message === null) return;
    switch (message.kind) {
      case "ping":
        return this.put({ kind: "pong", nonce: message.nonce, client_time: this.now() });
      case "joined":
        return this.join(message);
      case "refused":
        return this.listener.refused?.(message.reason, message.versions);
      case "answer": {
        const claim = this.waiting.get(message.receipt.sequence)?.claim ?? null;
        this.waiting.delete(message.receipt.sequence);
        return this.listener.answered?.(claim, message.receipt);
      }
      case "whole":
        return this.change(message.state);
      case "news":
        if (!this.state) return;
        try {
          this.change(message.events.reduce(follow, this.state));
        } catch (error) {
          if (!(error instanceof GapError)) throw error; // a gap: the server's `whole` follows
        }
    }
  }

  private join(message: Joined): void {
    if (this.joinedIn) return; // the answer to a join that was sent twice
    this.joinedIn = true;
    [this.entity, this.spreadKey, this.sameRules] = [message.entity, message.spread_key, message.same_rules];
    this.sequence = message.next_sequence - 1;
    this.listener.joined?.(message);
    this.change(message.state);
  }

  private change(state: State): void {
    this.state = state;
    this.listener.changed?.(state);
  }

  private put(message: FromClient): void {
    this.send(encode(message, this.form));
  }
}
