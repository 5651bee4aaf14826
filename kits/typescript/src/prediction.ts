/** What the client shows at once, before the server has answered, and how it is put right by each receipt. */

import type { Receipt, Triple } from "./messages.js";

interface Ahead { sequence: number; way: Triple; rounds: number }

/** Health, rounds and place: the server's last word, and on top of it what was claimed since. */
export class Prediction {
  health = 0;
  private magazine: number | null = null;
  private place: Triple | null = null;
  private heard = 0;
  private ahead: Ahead[] = [];

  /** A move was claimed, or an input sent that the server simulates: so far from where it was, metres. */
  moved(sequence: number, way: Triple): void {
    this.ahead.push({ sequence, way, rounds: 0 });
  }

  /** Shots were claimed that cost so many rounds. */
  fired(sequence: number, rounds = 1): void {
    this.ahead.push({ sequence, way: [0, 0, 0], rounds });
  }

  /** Where the body is shown: the server's place and every move since; null before the server said one. */
  get position(): Triple | null {
    if (!this.place) return null;
    return this.ahead.reduce<Triple>((at, { way }) => [at[0] + way[0], at[1] + way[1], at[2] + way[2]], this.place);
  }

  /** Rounds in the magazine as shown; null where they never run out. */
  get rounds(): number | null {
    if (this.magazine === null) return null;
    return Math.max(0, this.magazine - this.ahead.reduce((spent, one) => spent + one.rounds, 0));
  }

  /** The server put the body somewhere, or the client begins. */
  setPosition(place: Triple): void {
    this.place = place;
    this.ahead = this.ahead.map((one) => ({ ...one, way: [0, 0, 0] }));
  }

  /** A receipt came: its state is true up to its last number. One that is older than what was heard changes nothing. */
  correct({ state }: Receipt): void {
    if (!state || state.last_sequence < this.heard) return;
    this.heard = state.last_sequence;
    this.health = state.health;
    this.magazine = state.magazine ?? null;
    if (state.position) this.place = state.position;
    const simulated = state.input || state.last_sequence; // where the server moves the body, it lags behind the receipts
    this.ahead = this.ahead.filter((one) => one.sequence > (one.rounds ? state.last_sequence : simulated));
  }
}
