// The conformance vectors in ../vectors: what the server computes, this kit computes too.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import test from "node:test";
import { decode, encode, ProjectilePath, applyEvent, fromHex, Playout, SpreadStream, unpack } from "../dist/index.js";

const vectors = (name) => JSON.parse(readFileSync(new URL(`../../vectors/${name}.json`, import.meta.url), "utf8"));
const near = (a, b, tolerance, what) =>
  assert.ok(Math.abs(a - b) <= tolerance, `${what}: ${a}, expected ${b} (${Math.abs(a - b)} apart)`);
const allNear = (a, b, tolerance, what) => b.forEach((value, k) => near(a[k], value, tolerance, `${what}[${k}]`));

test("a thousand shots go where the server sends them", () => {
  const { tolerance, weapons } = vectors("spread");
  let shots = 0;
  for (const { weapon, key, rules, shots: fired } of weapons) {
    const scatter = new SpreadStream(fromHex(key), weapon, rules);
    for (const { direction, at, shot, speed_m_s, rays } of fired) {
      const found = scatter.rays(direction, at, shot, speed_m_s);
      assert.equal(found.length, rays.length);
      rays.forEach((ray, k) => allNear(found[k], ray, tolerance, `${weapon}, shot ${shot}, pellet ${k}`));
      shots += 1;
    }
  }
  assert.equal(shots, 1000);
});

test("two hundred flights are where the server has them, and bounce where it lets them", () => {
  const { planes, flights, tolerance_m, tolerance_s } = vectors("projectile_paths");
  flights.forEach((one, number) => {
    const flight = new ProjectilePath(one.motion, one.start, one.position, one.velocity, planes, one.last, one.target);
    for (const { at, position, velocity } of one.samples) {
      const found = flight.at(at);
      allNear(found.position, position, tolerance_m, `flight ${number} at ${at}`);
      allNear(found.velocity, velocity, 100 * tolerance_m, `speed of flight ${number} at ${at}`);
    }
    assert.equal(flight.bounces.length, one.bounces.length, `bounces of flight ${number}`);
    one.bounces.forEach((bounce, k) => {
      near(flight.bounces[k].server_time, bounce.server_time, tolerance_s, `bounce ${k} of flight ${number}`);
      allNear(flight.bounces[k].normal, bounce.normal, 1e-9, "normal");
      assert.equal(flight.bounces[k].rests, bounce.rests);
    });
    if (one.ended_at === null) assert.equal(flight.endedAt, Infinity);
    else near(flight.endedAt, one.ended_at, tolerance_s, `end of flight ${number}`);
  });
  assert.equal(flights.length, 200);
});

test("screens draw between the same snapshots, whatever the line does", () => {
  const { lines, tolerance } = vectors("views");
  for (const { delay_s, arrivals, views } of lines) {
    const playout = new Playout(delay_s);
    let taken = 0;
    for (const { after, at, view } of views) {
      for (; taken < after; taken++) playout.addSnapshot(arrivals[taken].tick, arrivals[taken].server_time, arrivals[taken].at);
      const found = playout.draw(at);
      if (view === null) assert.equal(found, null);
      else {
        assert.deepEqual(found.slice(0, 2), view.slice(0, 2));
        near(found[2], view[2], tolerance, `fraction at ${at}`);
      }
    }
  }
});

/** Fields that hold what they hold by default are left out of messages. */
const bare = (value) => {
  if (Array.isArray(value)) return value.map(bare);
  if (value === null || typeof value !== "object") return value;
  const kept = Object.entries(value).map(([name, held]) => [name, bare(held)]);
  const empty = (held) => held === 0 || held === "" || held === false || held === null || (Array.isArray(held) && !held.length)
    || (typeof held === "object" && held !== null && !Object.keys(held).length);
  return Object.fromEntries(kept.filter(([, held]) => !empty(held)));
};

test("events move the state on as the server's state moves", () => {
  for (const { state, events, states } of vectors("events").streams) {
    let now = state, count = 0;
    for (const { after, state: expected } of states) {
      for (; count < after; count++) now = applyEvent(now, events[count]);
      assert.deepEqual(bare(now), bare(expected));
    }
    assert.throws(() => applyEvent(state, { ...events[1] }), /event 2 follows 0/);
    assert.equal(applyEvent(now, events[0]), now);
  }
});

test("messages are the same bytes", () => {
  const hex = (bytes) => Buffer.from(bytes).toString("hex");
  for (const { direction, message, packed } of vectors("messages").messages) {
    const bytes = fromHex(packed);
    assert.deepEqual(unpack(bytes), message);
    if (direction === "from_client") {
      assert.equal(hex(encode(message)), packed);
      assert.deepEqual(JSON.parse(new TextDecoder().decode(encode(message, "json"))), message);
    } else {
      assert.deepEqual(decode(bytes), message);
      assert.deepEqual(decode(new TextEncoder().encode(JSON.stringify(message))), message);
    }
    for (let cut = 0; cut < bytes.length; cut++) assert.throws(() => unpack(bytes.subarray(0, cut)), RangeError);
  }
});
