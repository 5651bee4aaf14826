// The match viewer: what plays, what is chosen, and the address that says both.
import {ask, looksOf, matchPath} from "./asking.js";
import {ShotList} from "./list.js";
import {Poses} from "./poses.js";
import {claimTab, lineTab} from "./tabs.js";
import {SHOT_S, Stage} from "./stage.js";
import {COLOURS, KINDS, TimeLine, clock} from "./timeline.js";
import {element, legend} from "/static/drawing/shot.js";

const $ = id => document.getElementById(id);
const name = document.body.dataset.match, LIVE_BEHIND_S = 1.0;
const state = {t: 0, playing: false, speed: 1, camera: "free", whose: 0, other: 0, ruling: 0, step: -1, walls: false, live: false, data: null};
let info, stage, poses, list, time, dirty = true, rows = [], flights = [], marksNext = 0, newsAt = 0, byNumber = new Map();
let leaves = false;  // whether the next address is one to come back to
const people = new Map(), lines = new Map();

const say = text => { $("busy").textContent = text; };

async function begin() {
  const looks = await looksOf(name);
  info = looks.info;
  poses = new Poses(info, () => { dirty = true; });
  stage = new Stage($("scene"), $("view"), info, looks.surfaces, poses);
  list = new ShotList($("rows"), $("count"), $("filters"), choose);
  time = new TimeLine($("timeline"), seek, choose);
  list.onFilter = shown => { time.rows = shown; time.draw(); write(); };
  meet(info.people);
  time.setSpan(info.begins, info.ends);
  time.cases = info.cases;
  readAddress();
  if (!state.t) state.t = info.begins;
  await poses.fetch(poses.numberAt(state.t));
  say(info.level_missing ? "Level not found. Restart with --level FILE to see walls." : "");
  stage.controls.addEventListener("change", () => { dirty = true; });
  stage.overhead.addEventListener("change", () => { dirty = true; });
  globalThis.viewer = {stage, poses, time, list, state, frames: () => frames};  // for the console
  document.body.dataset.ready = "yes";
  requestAnimationFrame(frame);
  $("live").hidden = !info.live;
  if (info.live) listen();
  await readMarks();
  if (state.ruling) await choose(state.ruling, !location.hash.includes("t="));
  if (info.live && !state.ruling && !location.hash) goLive();
}

function meet(found) {
  for (const one of found) people.set(one.entity, one);
  stage?.setPeople([...people.values()]);
  const players = [...people.values()].filter(one => !one.cover), each = [...new Map(players.map(one => [keyOf(one.entity), one])).keys()];
  for (const id of ["whose", "other", "lineof"]) {
    if ($(id).options.length !== each.length) {
      const had = $(id).value;
      $(id).replaceChildren(...each.map(key => new Option(nameOf(key), key)));
      if (had) $(id).value = had;
    }
  }
  state.whose ||= players[0]?.entity ?? 0;
  state.other ||= players[1]?.entity ?? 0;
}

// A player who came back is another entity of the same account, and one entry in a list.
function keyOf(entity) {
  const one = people.get(entity);
  return one?.player ? one.name : String(entity);
}

function nameOf(key) { return people.get(Number(key))?.name ?? key; }

function entityOf(key, t) {
  const own = [...people.values()].filter(one => keyOf(one.entity) === key), there = own.findLast(one => one.from <= t);
  return (there ?? own[0])?.entity ?? 0;
}

function pick() { [$("whose").value, $("other").value, $("lineof").value] = [state.whose, state.other, state.whose].map(keyOf); }

async function readMarks() {
  while (true) {
    const found = await ask(`${matchPath(name)}/marks?from=${marksNext}`);
    marksNext = found.next;
    const fresh = found.rows.map(row => Object.fromEntries(info.columns.map((column, k) => [column, row[k]])));
    rows = rows.concat(fresh);
    for (const row of fresh) byNumber.set(row.number, row);
    flights = flights.concat(found.flights);
    time.deaths = time.deaths.concat(found.deaths);
    time.read = found.done ? Infinity : rows.at(-1)?.at ?? 0;
    if (found.people) meet(found.people);
    list.set(rows, people);
    if (found.done) break;
  }
  document.body.dataset.marks = rows.length;
}

// -- live: how far the match has come is told; playing stays a steady second behind it ---------------------------------
function listen() {
  const news = new EventSource(`${matchPath(name)}/news`);
  news.onmessage = async event => {
    const told = JSON.parse(event.data), grew = told.ends > info.ends;
    Object.assign(info, {ends: told.ends, live: told.live});
    if (grew) newsAt = performance.now();
    poses.stale();
    time.setSpan(info.begins, info.ends);
    if (state.live) poses.want(info.ends - LIVE_BEHIND_S, 1);
    await readMarks();
    document.body.dataset.ends = info.ends;
    dirty = true;
    if (!told.live) { news.close(); $("live").hidden = true; state.live = false; say("Match ended"); }
  };
}

function goLive() { state.live = true; state.playing = true; choose(0); }

// -- playing ------------------------------------------------------------------------------------------------------
const SHOWN_MS = 120;
let before = 0, shownAt = 0, frames = 0;
function frame(now) {
  const passed = Math.min(now - before, 250) / 1000;
  if (state.playing) {
    if (state.live) state.t = Math.min(info.ends, info.ends - LIVE_BEHIND_S + (now - newsAt) / 1000);
    else state.t = Math.min(state.t + passed * state.speed, info.ends);
    if (state.t >= info.ends && !info.live) { state.playing = false; write(); }
    stage.pace(now - before);
    dirty = true;
  }
  before = now;
  poses.want(state.t, state.playing ? Math.ceil(2 * state.speed) + 1 : 1);
  if (dirty) {
    dirty = false;
    if (!stage.framed) stage.frameAll(state.t);
    const recent = rows.length ? around(state.t) : [];
    stage.draw(state.t, {marks: recent, flights: flights.filter(one => one.from <= state.t && one.until >= state.t),
      whose: state.whose, other: state.other, behind, aim});
    time.follow(state.t);
    if (!state.playing || now - shownAt > SHOWN_MS) {  // words change a few times a second, pictures with every frame
      shownAt = now;
      if (poses.problem) say(poses.problem);
      Object.assign(document.body.dataset, {t: state.t.toFixed(3), drawn: poses.at(state.t) ? "yes" : "no", frames, sharpness: stage.sharpness});
      show();
      showScreens();
    }
  }
  frames += 1;
  requestAnimationFrame(frame);
}

function around(t) {
  let low = 0, high = rows.length;
  while (low < high) { const middle = (low + high) >> 1; if (rows[middle].at <= t) low = middle + 1; else high = middle; }
  const out = [];
  for (let k = low - 1; k >= 0 && out.length < 24 && rows[k].at > t - SHOT_S; k--) if (rows[k].number !== state.ruling) out.push(rows[k]);
  return out;
}

function show() {
  $("clock").textContent = `${clock(state.t)} / ${clock(info.ends)}${state.live ? `, ${(info.ends - state.t).toFixed(1)} s behind` : ""}`;
  $("play").textContent = state.playing ? "Pause" : "Play";
  $("live").setAttribute("aria-pressed", state.live);
  for (const one of document.querySelectorAll("[data-camera]")) one.setAttribute("aria-pressed", one.dataset.camera === state.camera);
}

// What stands under each screen: whose it is, how old what it shows is, and whether the other one is on it.
function showScreens() {
  const both = state.camera === "screens", crosses = document.querySelectorAll(".cross"), said = document.querySelectorAll(".screenof");
  const wide = $("view").clientWidth, called = entity => people.get(entity)?.name ?? "";
  $("legend").hidden = both || state.camera === "eyes";
  crosses[0].hidden = !both && state.camera !== "eyes";
  crosses[1].hidden = !both;
  crosses[0].style.left = `${both ? wide / 4 : wide / 2}px`;
  crosses[1].style.left = `${0.75 * wide}px`;
  [[state.whose, state.other], [state.other, state.whose]].forEach(([own, other], k) => {
    if (!both) { said[k].textContent = ""; return; }
    const ms = 1000 * behind(own, state.t), seen = stage.sees(k, other, state.t, behind(own, state.t));
    const where = !seen ? `${called(other)} is not present` : seen.shown ? `${called(other)} is on the screen` : `${called(other)} is off-screen by ${seen.angle.toFixed(0)} degrees`;
    said[k].textContent = `${called(own)}'s screen (${ms.toFixed(0)} ms behind the server). ${where}.`;
    said[k].style.left = k ? `${wide / 2 + 8}px` : "10px";
  });
}

function seek(t) {
  Object.assign(state, {t, live: false});
  dirty = true;
  write();
}

function togglePlay() {
  if (!state.playing && state.t >= info.ends - 0.01 && !info.live) state.t = info.begins;
  state.playing = !state.playing;
  if (!state.playing) state.live = false;
  if (state.playing && state.ruling) choose(0);
  dirty = true;
  write();
}

function step(way) {
  state.playing = state.live = false;
  seek(Math.min(Math.max(poses.step(state.t, way, $("unit").value === "snapshot"), info.begins), info.ends));
}

// -- choosing -----------------------------------------------------------------------------------------------------
async function choose(number, jump = true, isNew = true) {
  if (number !== state.ruling) { state.step = -1; leaves ||= isNew; }
  state.ruling = number;
  time.chosen = number;
  list.choose(number);
  state.data = null;
  if (!number) {
    stage.choose(null);
    $("what").replaceChildren();
    $("legend").replaceChildren();
    dirty = true;
    write();
    return;
  }
  state.playing = state.live = false;
  const row = byNumber.get(number);
  if (row && jump) seek(row.at);
  say("Loading claim...");
  try {
    const data = await ask(`${matchPath(name)}/ruling/${number}`);
    if (state.ruling !== number) return;
    state.data = data;
    if (!row && jump) seek(data.at);
    state.whose = data.entity;
    const target = data.bodies?.find(body => body.role === "target");
    if (target) state.other = target.entity;
    pick();
    if (state.camera === "screens") await hearBoth();
    stage.choose(data);
    $("what").replaceChildren(element("p", "", data.answer));
    $("legend").replaceChildren(...(data.drawn ? [legend(data)] : []));
    claimTab($("claim"), data, {stage, step: state.step, path: `${matchPath(name)}/ruling/${number}`, redraw: () => { dirty = true; },
      onStep: step => { state.step = step === data.ruled_step ? -1 : step; write(); }});
    tab("claim");
    say("");
  } catch (error) { say(error.message); }
  dirty = true;
  write();
  document.body.dataset.ruling = number;
}

// -- cameras ------------------------------------------------------------------------------------------------------
async function camera(mode) {
  state.camera = mode;
  stage.setMode(mode);
  if (mode === "screens") await hearBoth();
  dirty = true;
  write();
}

async function hear(entity) {
  if (!people.get(entity)?.player) return null; // what the server placed has no line
  if (!lines.has(entity)) lines.set(entity, await ask(`${matchPath(name)}/line/${entity}`).catch(() => null));
  return lines.get(entity);
}

async function hearBoth() {
  say("Loading both connections...");
  await Promise.all([hear(state.whose), hear(state.other)]);
  say("");
  if (state.data && state.camera === "screens") seek(firedAt(state.data));
}

// How far a player's screen ran behind the server, seconds: by the lag that was tracked, else by what was last said.
function behind(entity, t) {
  const told = lines.get(entity)?.told;
  if (!told?.[0].length) return 0;
  let k = told[0].findLastIndex(at => at <= t);
  if (k < 0) k = 0;
  return Math.max(0, (told[2][k] ?? told[1][k] ?? 0) / 1000);
}

// A shot was fired about one trip up before it arrived.
function firedAt(data) {
  const trips = lines.get(data.entity)?.trips, k = trips?.[0].findLastIndex(at => at <= data.at) ?? -1;
  return k >= 0 ? data.at - trips[1][k] / 2000 : data.at;
}

// Where a player aimed, if it shot about then; else its body's facing is drawn.
function aim(entity, t) {
  const near = state.data?.entity === entity && state.data.drawn && Math.abs(state.data.at - t) < 0.5;
  if (!near) return null;
  const {origin, aim: to} = state.data, way = to.map((v, k) => v - origin[k]), long = Math.hypot(...way) || 1;
  return way.map(v => v / long);
}

// -- tabs, keys, the address --------------------------------------------------------------------------------------
async function tab(which) {
  for (const one of document.querySelectorAll("[data-tab]")) {
    one.setAttribute("aria-selected", one.dataset.tab === which);
    $(one.dataset.tab).hidden = one.dataset.tab !== which;
  }
  if (which === "line") {
    const entity = entityOf($("lineof").value, state.t);
    lineTab($("linecharts"), await hear(entity), seek);
  }
}

const KEYS = [
  ["space", "Play or pause", () => togglePlay()], [",", "Previous frame", () => step(-1)], [".", "Next frame", () => step(1)],
  ["ArrowLeft", "Back one second", () => seek(Math.max(state.t - 1, info.begins))], ["ArrowRight", "Forward one second", () => seek(Math.min(state.t + 1, info.ends))],
  ["n", "Next shot", () => choose(list.beside(1, state.t)?.number ?? state.ruling)], ["p", "Previous shot", () => choose(list.beside(-1, state.t)?.number ?? state.ruling)],
  ["Escape", "Clear selection", () => choose(0)], ["1", "Free camera", () => camera("free")], ["2", "Top camera", () => camera("top")],
  ["3", "Player camera", () => camera("eyes")], ["4", "Both screens", () => camera("screens")],
  ["w", "X-ray", () => $("walls").click()], ["[", "Slider toward shooter's screen", () => slide(-1)], ["]", "Slider toward server now", () => slide(1)],
  ["+", "Zoom in on the timeline", () => time.zoom(0.7)], ["-", "Zoom out", () => time.zoom(1.4)], ["f", "Filter by player", () => { tab("list"); $("filters").elements.q.focus(); }],
  ["l", "Live", () => info.live && goLive()], ["?", "This list", () => $("keys").showModal()],
];

function slide(way) {
  const slider = $("claim").querySelector("input[type=range]");
  if (slider) { slider.value = Number(slider.value) + way; slider.dispatchEvent(new Event("input")); }
}

document.addEventListener("keydown", event => {
  if (event.target.closest?.("input:not([type=range]), select, textarea") || event.ctrlKey || event.metaKey || event.altKey || $("keys").open) return;
  const found = KEYS.find(([key]) => key === (event.key === " " ? "space" : event.key));
  if (found) { event.preventDefault(); found[2](); }
});

let writing = 0;
function write() {
  clearTimeout(writing);
  writing = setTimeout(() => {
    const said = {t: state.t.toFixed(3), ...(state.camera !== "free" && {camera: state.camera}), ...(["eyes", "screens"].includes(state.camera) && {whose: state.whose}),
      ...(state.camera === "screens" && {other: state.other}), ...(state.ruling && {ruling: state.ruling, ...(state.step >= 0 && {step: state.step})}), ...(state.walls && {walls: 1}), ...list.filters};
    history[leaves ? "pushState" : "replaceState"](null, "", `#${new URLSearchParams(said)}`);
    leaves = false;
  }, 150);
}

function readAddress() {
  const said = new URLSearchParams(location.hash.slice(1)), number = key => Number(said.get(key)) || 0;
  state.t = Math.min(Math.max(number("t"), info.begins), info.ends);
  state.ruling = Math.floor(number("ruling"));
  if (said.has("step")) state.step = Math.floor(number("step"));
  if (said.has("walls") !== state.walls) $("walls").click();
  if (number("whose")) state.whose = number("whose");
  if (number("other")) state.other = number("other");
  pick();
  for (const key of ["q", "weapon", "claims", "who", "outcome", "code"]) {
    const value = said.get(key) ?? "", field = $("filters").elements[key];
    if (field.options && ![...field.options].some(o => o.value === value)) field.append(new Option(value.replaceAll("_", " "), value));
    field.value = value;
  }
  const mode = said.get("camera") ?? "free";
  if (["free", "top", "eyes", "screens"].includes(mode) && mode !== state.camera) camera(mode);
}

// Back and forward go through the shots that were looked at.
window.addEventListener("popstate", async () => {
  clearTimeout(writing);
  const before = state.ruling;
  readAddress();
  list.filter();
  const wanted = state.ruling;
  state.ruling = before;
  await choose(wanted, false, false);
});

for (const one of document.querySelectorAll("[data-camera]")) one.addEventListener("click", () => camera(one.dataset.camera));
for (const one of document.querySelectorAll("[data-tab]")) one.addEventListener("click", () => tab(one.dataset.tab));
$("whose").addEventListener("change", event => { state.whose = entityOf(event.target.value, state.t); camera(state.camera === "screens" ? "screens" : "eyes"); });
$("other").addEventListener("change", event => { state.other = entityOf(event.target.value, state.t); camera("screens"); });
$("lineof").addEventListener("change", () => tab("line"));
$("walls").addEventListener("click", event => {
  const through = event.target.getAttribute("aria-pressed") !== "true";
  event.target.setAttribute("aria-pressed", through);
  state.walls = through;
  stage.setWalls(through);
  dirty = true;
  if (list) write();
});
$("play").addEventListener("click", togglePlay);
$("back").addEventListener("click", () => step(-1));
$("on").addEventListener("click", () => step(1));
$("speed").addEventListener("change", event => { state.speed = Number(event.target.value); });
$("live").addEventListener("click", goLive);
$("help").addEventListener("click", () => $("keys").showModal());
$("keys").querySelector("table").append(...KEYS.map(([key, what]) => {
  const row = element("tr"), held = element("td");
  held.append(element("kbd", "", key));
  row.append(held, element("td", "", what));
  return row;
}));
$("kinds").append(...KINDS.map(([kind, text]) => {
  const one = element("span"), patch = element("i");
  patch.style.background = COLOURS[kind];
  one.append(patch, text);
  return one;
}));
new ResizeObserver(() => { dirty = true; time?.draw(); }).observe($("view"));
begin().catch(error => { say(`Cannot show the match: ${error.message}`); document.body.dataset.ready = "failed"; });
