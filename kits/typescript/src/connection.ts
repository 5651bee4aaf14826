/** One client's conversation with the server: join, clock, numbered claims that are repeated until they are answered. */

import type { Claim, Form, FromClient, JoinAccepted, Receipt, State, ToClient, Unnumbered, View } from "./messages.js";
import { encode } from "./messages.js";
import type { Playout } from "./playout.js";
import { RoundTrip } from "./round_trip.js";
import { applyEvent, GapError } from "./state.js";

interface Waiting { claim: Claim; sentAt: number; times: number }

/** What the server made of something; your game draws, plays a sound or corrects itself by it. */
export interface Listener {
  joined?(joined: JoinAccepted): void;
  refused?(reason: string, versions: number[]): void;
  answered?(claim: Claim | null, receipt: Receipt): void;
  changed?(state: State): void;
  /** A message of the game's own came from the server. */
  game?(body: unknown): void;
  /** A claim got no receipt although it was repeated `MAX_REPEATS` times: the server may never have had it. */
  dropped?(claim: Claim): void;
}

export interface Options {
  /** Digests of the client's bundle, so that the server can say whether both go by the same rules. */
  digests?: Record<string, string>;
  /** How messages are written (default "msgpack"). */
  form?: Form;
  /** True for a transport that loses nothing, such as a WebSocket: nothing is sent twice (default false). */
  isReliable?: boolean;
  /** What draws the frames: claims that carry a view get the one of the frame on the screen by themselves. */
  playout?: Playout;
}

export const MAX_REPEATS = 8;
const JOIN_AGAIN_S = 0.25, VERSIONS = [2], WITH_VIEW = new Set(["shot", "launch", "melee", "trigger", "move"]);

export class Connection {
  entity = 0;
  /** The key of this client's spread, hexadecimal; see `SpreadStream`. */
  spreadKey = "";
  sameRules = true;
  state: State | null = null;
  private sequence = 0;
  private joinedIn = false;
  private joinSentAt = -Infinity;
  private readonly waiting = new Map<number, Waiting>();
  private readonly trip = new RoundTrip();

  /** send : puts bytes on the line, whatever it is; now : this client's own clock, seconds, which never runs back */
  constructor(
    private readonly send: (bytes: Uint8Array) => void, private readonly now: () => number,
    private readonly listener: Listener = {}, private readonly options: Options = {},
  ) {}

  /** Call it every frame or so: sends the join until it is answered, and claims that were lost again. */
  step(): void {
    const now = this.now();
    if (!this.joinedIn) {
      this.putJoin(this.options.isReliable ? Infinity : JOIN_AGAIN_S);
      return;
    }
    if (!this.options.isReliable) for (const [sequence, one] of this.waiting) this.again(sequence, one, now);
  }

  private again(sequence: number, one: Waiting, now: number): void {
    if (now - one.sentAt < this.trip.waitS(one.times)) return;
    if (one.times >= MAX_REPEATS) {
      this.waiting.delete(sequence);
      this.listener.dropped?.(one.claim);
      return;
    }
    one.sentAt = now;
    one.times += 1;
    this.put(one.claim);
  }

  /**
   * Number a claim and send it; returns its number. Moves come all the time: they aren't repeated.
   * Without a `view` it carries the one of the frame on the screen, where `options.playout` draws the frames.
   */
  claim(claim: Unnumbered, actor = this.entity): number {
    if (!this.joinedIn) throw new Error("claims come after the join was answered");
    const seen = WITH_VIEW.has(claim.kind) ? { view: this.options.playout?.drawn ?? undefined } : {};
    const numbered = { ...seen, ...claim, sequence: ++this.sequence, actor } as Claim;
    if (numbered.kind !== "move") this.waiting.set(this.sequence, { claim: numbered, sentAt: this.now(), times: 0 });
    this.put(numbered);
    return this.sequence;
  }

  /** What the screen is drawing, a few times a second, from a client that doesn't say it in its moves. */
  reportView(view: View | null = this.options.playout?.drawn ?? null): void {
    if (!view) return;
    const [from_tick, to_tick, fraction] = view;
    this.put({ kind: "view_report", from_tick, to_tick, fraction, client_time: this.now() });
  }

  /** Send a message of the game's own, such as chat; it is not repeated. */
  sendGame(body: unknown): void {
    if (!this.joinedIn) throw new Error("messages come after the join was answered");
    this.put({ kind: "game", body: body as { [k: string]: unknown } });
  }

  /** Claims that were sent and not yet answered, in order. */
  get unanswered(): Claim[] {
    return [...this.waiting.values()].map((one) => one.claim);
  }

  /** Take a message of the server's, see `decode`; null is taken for nothing. */
  receive(message: ToClient | null): void {
    if (message === null) return;
    switch (message.kind) {
      case "ping":
        return this.put({ kind: "pong", nonce: message.nonce, client_time: this.now() });
      case "join_accepted":
        return this.join(message);
      case "join_refused":
        return this.listener.refused?.(message.reason, message.versions ?? []);
      case "receipt":
        return this.answer(message.receipt);
      case "full_state":
        return this.change(message.state);
      case "game":
        return this.listener.game?.(message.body);
      case "events":
        if (!this.state) return;
        try {
          this.change(message.events.reduce(applyEvent, this.state));
        } catch (error) {
          if (!(error instanceof GapError)) throw error;
          this.putJoin(this.trip.waitS(0)); // news were lost: the answer to a join holds the whole state
        }
    }
  }

  private answer(receipt: Receipt): void {
    const waited = this.waiting.get(receipt.sequence);
    if (waited?.times === 0) this.trip.took(this.now() - waited.sentAt); // of a repeated one nobody knows which was answered
    this.waiting.delete(receipt.sequence);
    this.listener.answered?.(waited?.claim ?? null, receipt);
  }

  private join(message: JoinAccepted): void {
    if (this.joinedIn) {
      if (message.state.number > (this.state?.number ?? 0)) this.change(message.state);
      return;
    }
    this.joinedIn = true;
    [this.entity, this.spreadKey, this.sameRules] = [message.entity, message.spread_key, message.same_rules];
    this.sequence = message.next_sequence - 1;
    this.listener.joined?.(message);
    this.change(message.state);
  }

  /** Send the join, where the last one is old enough. */
  private putJoin(afterS: number): void {
    if (this.now() - this.joinSentAt < afterS) return;
    this.joinSentAt = this.now();
    this.put({ kind: "join", versions: VERSIONS, digests: this.options.digests ?? {} });
  }

  private change(state: State): void {
    this.state = state;
    this.listener.changed?.(state);
  }

  private put(message: FromClient): void {
    this.send(encode(message, this.options.form));
  }
}
