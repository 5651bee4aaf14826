// The loop in TypeScript, over UDP, with `tinclock serve` beside it: node server.ts [PORT] [SECONDS] [ws://127.0.0.1:7464]
// Node 22.18 or later runs it as it is; before that: npx tsc server.ts, and node --experimental-websocket server.js.
// It parses nothing that clients send: their bytes go to the service, and the bytes that come back go to them.
import { createSocket, type RemoteInfo } from "node:dgram";
import { readFileSync } from "node:fs";

type Place = [number, number, number];
type Ruled = { connection: string; findings?: { code: string }[]; explanation?: string;
  receipt?: { state?: { entity: number; position?: Place; health: number } } };
type Told = { kind: string; entity: number };
type Reply = { request: number; ok?: boolean; retry?: boolean; error?: string; answer?: number; rulings?: Ruled[];
  outgoing?: [string, string][]; events?: Told[]; replies?: string[] };
type Player = { entity: number; to: RemoteInfo; heardAt: number };

const [port, seconds, url] = [Number(process.argv[2] ?? 7465), Number(process.argv[3] ?? 3600), process.argv[4] ?? "ws://127.0.0.1:7464"];
const RATE_HZ = 64, SNAPSHOT_EVERY = 2, SILENT_S = 5, RESPAWN_S = 4, MATCH = `arena-${Date.now()}`;
const PLACES: Place[] = [[-5, 0, 0], [5, 0, 0], [0, -5, 0], [0, 8, 0]];
const REST: Place[] = [[0, 0, 0.95], [0, 0, 1.6], [0, 0.12, 0.9], [0, -0.12, 0.9]]; // of rules.toml's rig; yours has more
const began = performance.now(), now = () => (performance.now() - began) / 1000;
const players = new Map<string, Player>(), places = new Map<number, Place>(), died = new Map<number, number>();
const MOST_MESSAGES = 1024, GIVE_UP_S = 60, TRY_AGAIN_MS = 200; // messages of one request; seconds without a service
const line = createSocket("udp4");
let service: WebSocket | null = null, requests = 0, answered = 0, seen = 0, tick = 0;
let arrived: [string, number, string][] = [];
const pause = (ms: number) => new Promise((done) => setTimeout(done, ms));

function connect(): Promise<WebSocket> {
  return new Promise((done, failed) => {
    const socket = new WebSocket(url);
    socket.onopen = () => done(socket);
    socket.onerror = () => failed(new Error(`no service at ${url}: start it with \`tinclock serve --record matches\``));
  });
}

// One frame, and its reply; fails where the service dies meanwhile
function exchange(frame: object): Promise<Reply> {
  return new Promise((done, failed) => {
    const socket = service!;
    socket.onmessage = (message) => done(JSON.parse(String(message.data)));
    socket.onclose = () => failed(new Error("the service is gone"));
    socket.readyState === WebSocket.OPEN ? socket.send(JSON.stringify(frame)) : failed(new Error("the service is gone"));
  });
}

// Requests go one after the other. A service that died comes back with the match (start it with --record): what it did
// of this request is in its replies, and otherwise it is asked again, so each is done once
async function ask(what: object): Promise<Reply> {
  const request = ++requests, since = now();
  for (let isFirst = true; ; isFirst = false) {
    try {
      service ??= await connect();
      let reply = isFirst || !answered ? undefined : await resumed(request);
      reply ??= await exchange({ request, match: MATCH, ...what });
      if (!reply.retry) return taken(reply);
    } catch (error) {
      if (error instanceof Refused || !answered || now() - since > GIVE_UP_S) throw error;
      service = null;
    }
    await pause(TRY_AGAIN_MS);
  }
}

class Refused extends Error {}

function taken(reply: Reply): Reply {
  if (reply.ok === false) throw new Refused(reply.error);
  answered = reply.request;
  return reply;
}

async function resumed(request: number): Promise<Reply | undefined> {
  const back = await exchange({ do: "resume", request: 0, match: MATCH, last_reply: answered });
  if (back.retry) return back;
  if (back.ok === false) throw new Refused(back.error);
  return (back.replies ?? []).map((frame) => JSON.parse(Buffer.from(frame, "base64").toString())).find((one) => one.request === request);
}
const call = async (name: string, args: object) => (await ask({ do: "call", call: name, arguments: args })).answer;
const base64 = (array: ArrayBufferView) => Buffer.from(array.buffer, array.byteOffset, array.byteLength).toString("base64");

// ids are the server's: an address is only where to answer. Put your own log-in before `admit`
async function letIn(name: string, to: RemoteInfo): Promise<void> {
  const entity = Number(await call("admit", { connection: name, account: name, rig: "walker", weapon: "popper" }));
  await setPosition(entity, PLACES[entity % PLACES.length]);
  players.set(name, { entity, to, heardAt: now() });
}

async function setPosition(entity: number, place: Place): Promise<void> {
  places.set(entity, place);
  await call("set_position", { entity, position: place });
}

const whoIs = new Map<string, RemoteInfo>();
line.on("message", (data, to) => {
  const name = `${to.address}:${to.port}`;
  whoIs.set(name, to);
  arrived.push([name, now(), data.toString("base64")]);
});

function send(messages: [string, string][] = []): void {
  for (const [name, bytes] of messages) {
    const to = players.get(name)?.to;
    if (to) line.send(Buffer.from(bytes, "base64"), to.port, to.address);
  }
}

async function takeWhatCame(): Promise<void> {
  const messages: typeof arrived = [], came = arrived.slice(0, MOST_MESSAGES);
  arrived = arrived.slice(MOST_MESSAGES);
  for (const message of came) {
    const [name, at, data] = message;
    if (!players.has(name)) { // only a join lets a stranger in, whatever of those who left is still under way
      if (!Buffer.from(data, "base64").includes("join")) continue;
      await letIn(name, whoIs.get(name)!);
    }
    players.get(name)!.heardAt = at;
    messages.push(message);
  }
  if (!messages.length) return;
  const reply = await ask({ do: "messages", messages, explain: true });
  send(reply.outgoing);
  for (const { receipt, findings, explanation } of reply.rulings ?? []) {
    const state = receipt?.state;
    if (state?.position) places.set(state.entity, state.position);
    if (findings?.length) console.log(explanation); // for you: why. A client is never told that
  }
}

async function step(): Promise<void> {
  for (const [name, { heardAt, entity }] of players) {
    if (now() - heardAt < SILENT_S) continue;
    players.delete(name), places.delete(entity);
    await call("dismiss", { connection: name });
  }
  for (const [entity, at] of died) {
    if (now() - at < RESPAWN_S) continue;
    died.delete(entity);
    if (!places.has(entity)) continue;
    await call("spawn", { entity });
    await setPosition(entity, PLACES[entity % PLACES.length]);
  }
  const ids = [...places.keys()].sort((a, b) => a - b);
  const bones = ids.flatMap((id) => REST.flatMap((bone) => [...bone.map((value, k) => value + places.get(id)![k]), 0, 0, 0, 1]));
  const snapshot_sent = tick % SNAPSHOT_EVERY === 0;
  await ask({ do: "tick", tick, server_time: now(), snapshot_sent,
    entities: base64(BigInt64Array.from(ids, BigInt)), bones: base64(Float32Array.from(bones)) });
  if (snapshot_sent) {
    const snapshot = JSON.stringify({ kind: "snapshot", tick, bodies: Object.fromEntries(ids.map((id) => [id, places.get(id)])) });
    for (const { to } of players.values()) line.send(snapshot, to.port, to.address);
  }
  const told = (await ask({ do: "events", since: seen })).events ?? [];
  seen += told.length;
  for (const one of told) if (one.kind === "death") died.set(one.entity, now());
  send((await ask({ do: "outgoing", server_time: now(), ping: tick % 16 === 0 })).outgoing);
  tick += 1;
}

async function main(): Promise<void> {
  await ask({ do: "open", rules: readFileSync("rules.toml", "utf8"), level: readFileSync("level.toml", "utf8") });
  line.bind(port, "127.0.0.1", () => console.log(`udp 127.0.0.1:${port}, ruled by ${url}`));
  while (now() < seconds) {
    await takeWhatCame();
    if (now() >= tick / RATE_HZ) await step();
    else await pause(1);
  }
  await ask({ do: "close" });
  console.log(`${tick} ticks`);
  process.exit(0);
}

main().catch((error) => { console.error(error.message); process.exit(1); });
