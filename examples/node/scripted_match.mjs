// A match played by a server in Node.js, ruled by `tinclock serve` beside it: two bodies, one shot, one lie.
//   node scripted_match.mjs ws://127.0.0.1:7464 RULES.toml      (before Node 22: node --experimental-websocket ...)
import { readFileSync } from "node:fs";

const [url, rulesFile] = process.argv.slice(2);
const socket = new WebSocket(url);
const waiting = [];
let request = 0;

socket.onmessage = (message) => waiting.shift()(JSON.parse(message.data));
const ask = (what) => new Promise((done, failed) => {
  waiting.push((reply) => (reply.ok === false ? failed(new Error(reply.error)) : done(reply)));
  socket.send(JSON.stringify({ request: ++request, match: "scripted", ...what }));
});
const call = async (name, args) => (await ask({ do: "call", call: name, arguments: args })).answer;
const base64 = (array) => Buffer.from(array.buffer).toString("base64");
const claim = (fields) => Buffer.from(JSON.stringify(fields)).toString("base64");

// a body in its rest pose at (x, y): the bones of the rules' rig, unturned; here the head and the chest are enough
const REST = [[0, 0, 0.95], [0, 0, 1.06], [0, 0, 1.24], [0, 0, 1.48], [0.02, 0, 1.62], [0, 0.09, 1.43], [0, 0.2, 1.41],
  [0, 0.22, 1.13], [0, 0.22, 0.88], [0, -0.09, 1.43], [0, -0.2, 1.41], [0, -0.22, 1.13], [0, -0.22, 0.88],
  [0, 0.1, 0.91], [0, 0.1, 0.5], [0, 0.1, 0.09], [0, -0.1, 0.91], [0, -0.1, 0.5], [0, -0.1, 0.09]];
const body = (x, y) => REST.flatMap(([bx, by, bz]) => [x + bx, y + by, bz, 0, 0, 0, 1]);

socket.onopen = async () => {
  try {
    await ask({ do: "open", rules: readFileSync(rulesFile, "utf8"), seed: 7 });
    const mary = await call("admit", { connection: "c-1", account: "mary", team: "copper", rig: "gardener", weapon: "grit_rifle" });
    const john = await call("admit", { connection: "c-2", account: "john", team: "pewter", rig: "gardener", weapon: "grit_rifle" });
    for (let tick = 0; tick < 33; tick++) {
      const entities = base64(new BigInt64Array([BigInt(mary), BigInt(john)]));
      const bones = base64(new Float32Array([...body(-9, 3), ...body(0, 3)]));
      await ask({ do: "tick", tick, server_time: tick / 64, entities, bones, published: tick % 2 === 0 });
    }
    const shot = { kind: "shot", sequence: 1, actor: mary, weapon: "grit_rifle", origin: [-8.89, 3, 1.65], direction: [1, 0, 0], view: [22, 24, 0.4] };
    const reply = await ask({ do: "claims", claims: [
      ["c-1", 0.57, claim(shot)],
      ["c-1", 0.58, claim(shot)],                                     // the network brought it twice
      ["c-2", 0.58, claim({ ...shot, sequence: 1, actor: mary })],     // john fires in mary's name
      ["c-2", 0.59, Buffer.from("garbage").toString("base64")],
    ] });
    for (const ruled of reply.rulings) {
      const codes = (ruled.findings ?? []).map((finding) => finding.code).join(", ");
      console.log(`${ruled.connection}: ${ruled.outcome}`, JSON.stringify(ruled.receipt.hits ?? []), codes);
    }
    const news = await ask({ do: "events", since: 0 });
    console.log(`${news.events.length} events; health of john: ${news.events.filter((e) => e.kind === "health").at(-1).after}`);
    await ask({ do: "close" });
    console.log("closed");
  } catch (error) {
    console.error(String(error));
    process.exitCode = 1;
  }
  socket.close();
};
socket.onerror = () => { console.error(`can't reach ${url}`); process.exitCode = 1; };
