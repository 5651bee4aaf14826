// Joining, numbering, repeating, correcting: against a line that loses what it likes.
import assert from "node:assert/strict";
import test from "node:test";
import { Connection, pack, Prediction, unpack } from "../dist/index.js";

const STATE = { number: 3, server_time: 1, entities: [{ entity: 7, rig: "gardener", health: 100 }], rows: [] };
const JOINED = { kind: "joined", version: 1, entity: 7, spread_key: "8f1c", next_sequence: 5, tick_rate_hz: 64, snapshot_every: 2,
  same_rules: true, state: STATE };

function begin(listener = {}) {
  const line = { now: 0, sent: [] };
  line.client = new Connection((bytes) => line.sent.push(unpack(bytes)), () => line.now, listener, { match: "97" });
  return line;
}

test("a join is sent until it is answered, and claims count on from where the server says", () => {
  const line = begin();
  for (line.now = 0; line.now < 1; line.now += 0.1) line.client.step();
  assert.ok(line.sent.length >= 3 && line.sent.every((message) => message.kind === "join"));
  assert.throws(() => line.client.claim({ kind: "use", item: "oil_can" }), /come after the join/);
  line.client.take(JOINED);
  line.client.take(JOINED);
  assert.equal(line.client.claim({ kind: "use", item: "oil_can" }), 5);
  assert.deepEqual(line.sent.at(-1), { kind: "use", item: "oil_can", sequence: 5, actor: 7 });
});

test("a claim is repeated as it was until its receipt comes, and moves are not", () => {
  const answers = [], line = begin({ answered: (claim, receipt) => answers.push([claim.kind, receipt.outcome]) });
  line.client.take(JOINED);
  line.client.claim({ kind: "status", health: 3 });
  line.client.claim({ kind: "move", position: [0, 0, 0], client_time: 0 });
  for (let k = 0; k < 20; k++) (line.now += 0.1), line.client.step();
  const repeats = line.sent.filter((message) => message.kind === "status");
  assert.ok(repeats.length >= 3);
  assert.ok(repeats.every((message) => message.sequence === 5));
  assert.equal(line.sent.filter((message) => message.kind === "move").length, 1);
  line.client.take({ kind: "answer", receipt: { sequence: 5, outcome: "upheld" } });
  const before = line.sent.length;
  for (let k = 0; k < 50; k++) (line.now += 0.1), line.client.step();
  assert.equal(line.sent.length, before);
  assert.deepEqual(answers, [["status", "upheld"]]);
});

test("pings are answered with this clock, and news with a gap waits for the whole state", () => {
  const states = [], line = begin({ changed: (state) => states.push(state.number) });
  line.client.take(JOINED);
  line.now = 12.5;
  line.client.take({ kind: "ping", nonce: 99 });
  assert.deepEqual(line.sent.at(-1), { kind: "pong", nonce: 99, client_time: 12.5 });
  const event = (number) => ({ number, kind: "health", server_time: 2, entity: 7, before: 100, after: 80 });
  line.client.take({ kind: "news", events: [event(4)] });
  line.client.take({ kind: "news", events: [event(9)] });
  assert.equal(line.client.state.entities[0].health, 80);
  line.client.take({ kind: "whole", state: { ...STATE, number: 9 } });
  line.client.take(null);
  assert.deepEqual(states, [3, 4, 9]);
});

test("what was shown ahead of the server is put right by its receipts", () => {
  const shown = new Prediction();
  shown.put([0, 0, 0]);
  shown.moved(1, [1, 0, 0]), shown.moved(2, [1, 0, 0]), shown.fired(3), shown.moved(4, [0, 2, 0]);
  assert.deepEqual(shown.position, [2, 2, 0]);
  const state = { entity: 7, last_sequence: 2, health: 60, magazine: 5, position: [1.5, 0, 0] };
  shown.correct({ sequence: 2, outcome: "amended", state });
  assert.deepEqual([shown.position, shown.rounds, shown.health], [[1.5, 2, 0], 4, 60]);
  shown.correct({ sequence: 1, outcome: "upheld", state: { ...state, last_sequence: 1, health: 100 } });
  assert.equal(shown.health, 60);
  shown.correct({ sequence: 4, outcome: "upheld", state: { ...state, last_sequence: 4, magazine: 4, position: [1.5, 2, 0] } });
  assert.deepEqual([shown.position, shown.rounds], [[1.5, 2, 0], 4]);
});

test("bytes that are no message are refused as such, and numbers survive", () => {
  for (const value of [0, 127, 128, 65535, 65536, 2 ** 40, -1, -33, -129, -40000, -(2 ** 40), 0.5, -0, NaN, Infinity, "é", [1, [2]], { a: null }]) {
    assert.deepEqual(unpack(pack(value)), value);
  }
  for (const bad of [[], [0xc1], [0x81, 0xc0, 0x01], [0x92, 1], [1, 2], [0xdd, 255, 255, 255, 255], new Array(60).fill(0x91)]) {
    assert.throws(() => unpack(Uint8Array.from(bad)), RangeError);
  }
});
