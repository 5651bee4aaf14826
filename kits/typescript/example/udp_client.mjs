// A player over UDP, on the kit: node udp_client.mjs PORT SECONDS DIGESTS.json [WEAPON]. Plays against
// examples/udp/server.py, or against the loop that `tinclock new arena --server typescript` writes (its weapon is the
// popper), for so many seconds of the match, and prints one line of JSON. One datagram in ten that it sends is lost on purpose, and one in twenty is sent twice.
import { createSocket } from "node:dgram";
import { readFileSync } from "node:fs";
import { Connection, decode, Playout, Prediction, unpack } from "../dist/index.js";

const weapon = process.argv[5] ?? "grit_rifle";
const [port, seconds, digests] = [Number(process.argv[2]), Number(process.argv[3]), JSON.parse(readFileSync(process.argv[4], "utf8"))];
const socket = createSocket("udp4"), shown = new Prediction(), playout = new Playout(0.1), bodies = new Map();
const seen = { snapshots: 0, answers: 0, accepted: 0, hits: 0, shots: 0, lost: 0 };
const now = () => performance.now() / 1000;
let state = 1, first, over; // the first tick that it saw, and when its time was over
const chance = () => (state = (state * 48271) % 2147483647) / 2147483647;

const send = (bytes) => {
  if (chance() < 0.1) return void (seen.lost += 1);
  socket.send(bytes, port, "127.0.0.1");
  if (chance() < 0.05) socket.send(bytes, port, "127.0.0.1");
};
const client = new Connection(send, now, {
  answered: (claim, receipt) => {
    if (claim) seen.answers += 1;
    if (claim && receipt.outcome !== "rejected") seen.accepted += 1;
    if (claim) seen.hits += receipt.hits?.length ?? 0;
    shown.correct(receipt);
  },
}, { digests, playout });

socket.on("message", (bytes) => {
  const snapshot = bytes[0] === 0x7b ? JSON.parse(bytes.toString()) : unpack(bytes);
  if (snapshot.kind !== "snapshot") return void client.receive(decode(bytes)); // snapshots are the game's own
  seen.snapshots += 1;
  first ??= snapshot.tick;
  if ((snapshot.tick - first) / 64 >= seconds) over ??= now();
  bodies.set(snapshot.tick, snapshot.bodies);
  bodies.delete(snapshot.tick - 200);
  playout.addSnapshot(snapshot.tick, snapshot.tick / 64, now());
  const own = snapshot.bodies[client.entity];
  if (own && !shown.position) shown.setPosition(own);
});

function act(step) {
  const position = shown.position, view = playout.draw(now()); // a frame, and then what the player does on it
  if (!position || !view) return;
  const way = [0.08 * Math.cos(step / 20), 0.08 * Math.sin(step / 20), 0];
  const to = position.map((value, k) => value + way[k]);
  shown.moved(client.claim({ kind: "move", position: to, client_time: now() }), way);
  if (step % 12) return;
  const [from, then] = [bodies.get(view[0]), bodies.get(view[1])];
  const others = Object.keys(from ?? {}).filter((who) => Number(who) !== client.entity && then?.[who]);
  if (!others.length) return;
  const at = others.map((who) => from[who].map((value, k) => value + view[2] * (then[who][k] - value)));
  const apart = (place) => Math.hypot(place[0] - to[0], place[1] - to[1]);
  const aim = at.sort((a, b) => apart(a) - apart(b))[0], eye = [to[0] + 0.02, to[1], to[2] + 1.62];
  const line = [aim[0] - eye[0], aim[1] - eye[1], aim[2] + 1.3 - eye[2]], length = Math.hypot(...line);
  client.claim({ kind: "shot", weapon, origin: [eye[0] + 0.09, eye[1], eye[2]],
    direction: line.map((value) => value / length), client_time: now() });
  seen.shots += 1;
}

let step = 0;
const clock = setInterval(() => {
  client.step();
  if (client.entity && !over) act(++step);
  if (!over || now() - over < 1.5) return;
  clearInterval(clock);
  for (let k = 0; k < 5; k++) socket.send("leave", port, "127.0.0.1");
  const told = { ...seen, entity: client.entity, same_rules: client.sameRules, unanswered: client.unanswered.length,
    event: client.state?.number ?? 0, health: shown.health };
  console.log(JSON.stringify(told));
  setTimeout(() => socket.close(), 50);
}, 50);
