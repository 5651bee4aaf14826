/** What a game's client needs beside a Tin Clock server. */

export * from "./messages.js";
export { pack, unpack } from "./bytes.js";
export { Connection, MAX_REPEATS, type Listener, type Options } from "./connection.js";
export { ProjectilePath, type Bounce, type Plane } from "./projectile_path.js";
export { Playout } from "./playout.js";
export { Prediction } from "./prediction.js";
export { draws, SpreadStream, turned, type RecoilRules, type SpreadRules, type WeaponSpread } from "./spread_stream.js";
export { applyEvent, GapError, launched } from "./state.js";
