/** How long to wait for an answer before something is sent again, by the round trips so far (RFC 6298). */

const FIRST_WAIT_S = 0.25, LEAST_WAIT_S = 0.1, MOST_WAIT_S = 4, GRACE_S = 0.02;

export class RoundTrip {
  private smoothed = 0;
  private deviation = 0;
  private isKnown = false;

  /** Something that was sent once was answered after so many seconds. */
  took(seconds: number): void {
    if (this.isKnown) {
      this.deviation += (Math.abs(seconds - this.smoothed) - this.deviation) / 4;
      this.smoothed += (seconds - this.smoothed) / 8;
    } else [this.smoothed, this.deviation, this.isKnown] = [seconds, seconds / 2, true];
  }

  /** Seconds to wait for an answer, twice as long after each repeat. */
  waitS(repeats: number): number {
    const once = this.isKnown ? this.smoothed + Math.max(4 * this.deviation, GRACE_S) : FIRST_WAIT_S;
    return Math.min(Math.max(once, LEAST_WAIT_S) * 2 ** repeats, MOST_WAIT_S);
  }
}
