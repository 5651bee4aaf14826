// Joining, numbering, repeating, correcting: against a line that loses what it likes.
import assert from "node:assert/strict";
import test from "node:test";
import { Connection, MAX_REPEATS, pack, Playout, Prediction, unpack } from "../dist/index.js";

const STATE = { number: 3, server_time: 1, entities: [{ entity: 7, rig: "gardener", health: 100 }], rows: [] };
const JOINED = { kind: "join_accepted", version: 2, entity: 7, spread_key: "8f1c", next_sequence: 5, tick_rate_hz: 64, snapshot_every: 2,
  same_rules: true, state: STATE };

function begin(listener = {}, options = {}) {
  const line = { now: 0, sent: [] };
  line.client = new Connection((bytes) => line.sent.push(unpack(bytes)), () => line.now, listener, { digests: { match: "97" }, ...options });
  return line;
}

test("a join is sent until it is answered, and claims count on from where the server says", () => {
  const line = begin();
  for (line.now = 0; line.now < 1; line.now += 0.1) line.client.step();
  assert.ok(line.sent.length >= 3 && line.sent.every((message) => message.kind === "join"));
  assert.throws(() => line.client.claim({ kind: "use", item: "oil_can" }), /come after the join/);
  line.client.receive(JOINED);
  line.client.receive(JOINED);
  assert.equal(line.client.claim({ kind: "use", item: "oil_can" }), 5);
  assert.deepEqual(line.sent.at(-1), { kind: "use", item: "oil_can", sequence: 5, actor: 7 });
});

test("a claim is repeated as it was until its receipt comes, and moves are not", () => {
  const answers = [], line = begin({ answered: (claim, receipt) => answers.push([claim.kind, receipt.outcome]) });
  line.client.receive(JOINED);
  line.client.claim({ kind: "status", health: 3 });
  line.client.claim({ kind: "move", position: [0, 0, 0], client_time: 0 });
  for (let k = 0; k < 20; k++) (line.now += 0.1), line.client.step();
  const repeats = line.sent.filter((message) => message.kind === "status");
  assert.ok(repeats.length >= 3);
  assert.ok(repeats.every((message) => message.sequence === 5));
  assert.equal(line.sent.filter((message) => message.kind === "move").length, 1);
  line.client.receive({ kind: "receipt", receipt: { sequence: 5, outcome: "accepted" } });
  const before = line.sent.length;
  for (let k = 0; k < 50; k++) (line.now += 0.1), line.client.step();
  assert.equal(line.sent.length, before);
  assert.deepEqual(answers, [["status", "accepted"]]);
});

test("pings are answered with this clock, and a gap in the news asks for the whole state by another join", () => {
  const states = [], line = begin({ changed: (state) => states.push(state.number) });
  line.client.receive(JOINED);
  line.now = 12.5;
  line.client.receive({ kind: "ping", nonce: 99 });
  assert.deepEqual(line.sent.at(-1), { kind: "pong", nonce: 99, client_time: 12.5 });
  const event = (number) => ({ number, kind: "health", server_time: 2, entity: 7, before: 100, after: 80 });
  line.client.receive({ kind: "events", events: [event(4)] });
  assert.equal(line.sent.filter((message) => message.kind === "join").length, 0);
  line.client.receive({ kind: "events", events: [event(9)] });
  line.client.receive({ kind: "events", events: [event(10)] }); // at once: one join is enough
  assert.equal(line.client.state.entities[0].health, 80);
  assert.equal(line.sent.filter((message) => message.kind === "join").length, 1);
  line.client.receive({ ...JOINED, next_sequence: 99, state: { ...STATE, number: 8 } });
  line.client.receive(JOINED); // overtaken: older than what it has
  assert.equal(line.client.claim({ kind: "use", item: "oil_can" }), 5);
  line.client.receive({ kind: "full_state", state: { ...STATE, number: 9 } });
  line.client.receive(null);
  assert.deepEqual(states, [3, 4, 8, 9]);
});

test("what was shown ahead of the server is put right by its receipts", () => {
  const shown = new Prediction();
  shown.setPosition([0, 0, 0]);
  shown.moved(1, [1, 0, 0]), shown.moved(2, [1, 0, 0]), shown.fired(3), shown.moved(4, [0, 2, 0]);
  assert.deepEqual(shown.position, [2, 2, 0]);
  const state = { entity: 7, last_sequence: 2, health: 60, magazine: 5, position: [1.5, 0, 0] };
  shown.correct({ sequence: 2, outcome: "adjusted", state });
  assert.deepEqual([shown.position, shown.rounds, shown.health], [[1.5, 2, 0], 4, 60]);
  shown.correct({ sequence: 1, outcome: "accepted", state: { ...state, last_sequence: 1, health: 100 } });
  assert.equal(shown.health, 60);
  shown.correct({ sequence: 4, outcome: "accepted", state: { ...state, last_sequence: 4, magazine: 4, position: [1.5, 2, 0] } });
  assert.deepEqual([shown.position, shown.rounds], [[1.5, 2, 0], 4]);
});

test("inputs that the server has not simulated yet stay on top of its position", () => {
  const shown = new Prediction();
  shown.setPosition([0, 0, 0]);
  for (const sequence of [1, 2, 3]) shown.moved(sequence, [1, 0, 0]);
  const state = { entity: 7, last_sequence: 3, health: 60, position: [1, 0, 0], input: 1 };
  shown.correct({ sequence: 3, outcome: "accepted", state });
  assert.deepEqual(shown.position, [3, 0, 0]);
});

test("bytes that are no message are refused as such, and numbers survive", () => {
  for (const value of [0, 127, 128, 65535, 65536, 2 ** 40, -1, -33, -129, -40000, -(2 ** 40), 0.5, -0, NaN, Infinity, "é", [1, [2]], { a: null },
    new Uint8Array(), Uint8Array.of(0, 255), new Uint8Array(300).fill(7), new Uint8Array(70_000), { send: [["c1", Uint8Array.of(1)]] }]) {
    assert.deepEqual(unpack(pack(value)), value);
  }
  for (const bad of [[], [0xc1], [0x81, 0xc0, 0x01], [0x92, 1], [1, 2], [0xdd, 255, 255, 255, 255], [0xc4, 2, 1], [0xc6, 255, 255, 255, 255], new Array(60).fill(0x91)]) {
    assert.throws(() => unpack(Uint8Array.from(bad)), RangeError);
  }
});

test("a claim is repeated by the round trip that was measured, ever later, and one that is never answered is said to be dropped", () => {
  const dropped = [], line = begin({ dropped: (claim) => dropped.push(claim.sequence) });
  line.client.receive(JOINED);
  const answerAfter = (seconds) => {
    const sequence = line.client.claim({ kind: "use", item: "oil_can" });
    line.now += seconds;
    line.client.receive({ kind: "receipt", receipt: { sequence, outcome: "accepted" } });
  };
  for (let k = 0; k < 20; k++) answerAfter(0.6); // a slow line: 0.25 s would repeat everything
  const silent = line.client.claim({ kind: "use", item: "oil_can" }), began = line.now, at = [];
  while (line.client.unanswered.length) {
    const before = line.sent.length;
    (line.now += 0.01), line.client.step();
    if (line.sent.length > before) at.push(line.now - began);
  }
  assert.ok(at[0] > 0.6 && at[0] < 0.8, `first repeat after ${at[0]} s`);
  const waits = at.map((one, k) => one - (at[k - 1] ?? 0));
  assert.ok(waits.every((wait, k) => k === 0 || wait >= waits[k - 1] - 0.011));
  assert.equal(at.length, MAX_REPEATS);
  assert.deepEqual(dropped, [silent]);
});

test("over a transport that loses nothing, nothing is sent twice", () => {
  const line = begin({}, { isReliable: true });
  for (let k = 0; k < 20; k++) (line.now += 0.1), line.client.step();
  assert.equal(line.sent.length, 1);
  line.client.receive(JOINED);
  line.client.claim({ kind: "use", item: "oil_can" });
  for (let k = 0; k < 200; k++) (line.now += 0.1), line.client.step();
  assert.equal(line.sent.length, 2);
  assert.equal(line.client.unanswered.length, 1);
});

test("a claim carries the view of the frame on the screen, not of the moment of the trigger", () => {
  const playout = new Playout(0.1), line = begin({}, { playout });
  line.client.receive(JOINED);
  line.client.claim({ kind: "shot", weapon: "grit_rifle", origin: [0, 0, 0], direction: [1, 0, 0] });
  assert.equal(line.sent.at(-1).view, undefined);
  for (let tick = 0; tick <= 20; tick += 2) playout.addSnapshot(tick, tick / 64, 5 + tick / 64);
  const drawn = playout.draw(5.25);
  line.now = 5.262; // the trigger, most of a frame later
  line.client.claim({ kind: "shot", weapon: "grit_rifle", origin: [0, 0, 0], direction: [1, 0, 0] });
  assert.deepEqual(line.sent.at(-1).view, drawn);
  line.client.claim({ kind: "use", item: "oil_can" });
  assert.equal("view" in line.sent.at(-1), false);
  line.client.claim({ kind: "shot", weapon: "grit_rifle", origin: [0, 0, 0], direction: [1, 0, 0], view: [1, 2, 0.5] });
  assert.deepEqual(line.sent.at(-1).view, [1, 2, 0.5]);
  line.client.reportView();
  assert.deepEqual([line.sent.at(-1).from_tick, line.sent.at(-1).to_tick, line.sent.at(-1).fraction], drawn);
  assert.notDeepEqual(playout.draw(5.262), drawn);
});
