/** What a game's client needs beside a Tin Clock server. */

export * from "./messages.js";
export { pack, unpack } from "./bytes.js";
export { Connection, MOST_REPEATS, type Listener, type Options } from "./connection.js";
export { Flight, type Bounce, type Plane } from "./flight.js";
export { Playout } from "./playout.js";
export { Prediction } from "./prediction.js";
export { draws, Scatter, turned, type RecoilRules, type SpreadRules, type WeaponSpread } from "./spread.js";
export { follow, GapError, launched } from "./state.js";
