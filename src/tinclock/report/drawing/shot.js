// One ruled shot as layers of a scene: bodies as claimed, as ruled and now, the ways of its rays, how far it missed.
import * as THREE from "./vendor/three.js";
import {Crowd} from "./bodies.js";
import {COLOURS, ball, dashed, disposeAll, hex, teamColour, tube} from "./ground.js";

export const LEGEND = [
  ["Slider position", COLOURS.copper, "its team's colour, solid"], ["Shooter's screen", COLOURS.claimed, "outline"],
  ["Used for the decision", COLOURS.ruled, "outline"], ["Server now", COLOURS.present, "pale"],
  ["Shot", COLOURS.ray, "line, dashed"], ["Shooter", COLOURS.faint, "pale"], ["Ground", COLOURS.paper, "1 m grid"],
];

export class ShotLayers {
  constructor(rigs, data) {
    this.data = data;
    this.group = new THREE.Group();
    const most = Math.max(1, (data.bodies ?? []).length);
    this.solid = new Crowd(rigs, most);
    this.claimed = new Crowd(rigs, most, {wire: true, opacity: 0.55, order: 3});
    this.ruled = new Crowd(rigs, most, {wire: true, opacity: 0.6, order: 4});
    this.present = new Crowd(rigs, most, {opacity: 0.32, order: 1});
    this.shooter = new Crowd(rigs, 1, {opacity: 0.5, order: 1});
    for (const one of [this.solid, this.claimed, this.ruled, this.present, this.shooter]) this.group.add(one.group);
    this.ways = new THREE.Group();
    this.group.add(this.ways);
    this.labels = [];
    this.last = (data.ages_ms ?? [0]).length - 1;
    if (data.drawn) this._still();
    this.show(data.ruled_step >= 0 ? data.ruled_step : 0);
  }

  _still() {
    const {data} = this, moved = data.ages_ms[0] > 1;
    const fill = (crowd, pose, colour) => {
      crowd.begin();
      for (const body of data.bodies) {
        const bones = pose(body);
        if (bones) crowd.add(body.rig, bones, 0, colour(body));
      }
      crowd.end();
    };
    fill(this.claimed, b => (moved ? b.steps[0] : null), () => COLOURS.claimed);
    fill(this.ruled, b => (data.ruled_step > 0 ? b.ruled : null), () => COLOURS.ruled);
    fill(this.present, b => (moved ? b.steps[this.last] : null), () => COLOURS.present);
    this.shooter.begin();
    if (data.shooter?.bones) this.shooter.add(data.shooter.rig, data.shooter.bones, 0, teamColour(data.shooter.team));
    this.shooter.end();
    for (const ray of data.rays) this.ways.add(tube(data.origin, ray.to, data.rays.length > 1 ? 0.006 : 0.01, COLOURS.ray));
    if (data.flight?.length) this.ways.add(dashed(data.flight, COLOURS.ink), ball(data.flight.at(-1), 0.09, COLOURS.ink));
    if (!data.rays.length) this.ways.add(dashed([data.origin, data.aim], COLOURS.ray));
    else this.ways.add(dashed([data.origin, data.aim], COLOURS.faint));
    this.ways.add(ball(data.origin, 0.04, COLOURS.ink));
    for (const at of data.met) this.ways.add(ball(at, 0.06, COLOURS.ray));
    for (const one of data.crossings ?? []) {
      this.ways.add(ball(one.at, 0.05, COLOURS.cover));
      this.labels.push({text: one.says, at: new THREE.Vector3(...one.at), look: ""});
    }
    if (data.miss) {
      this.ways.add(tube(data.miss.from, data.miss.to, 0.012, COLOURS.ink), ball(data.miss.to, 0.03, COLOURS.ink));
      const out = new THREE.Vector3(...data.miss.from).sub(new THREE.Vector3(...data.miss.to)).normalize();
      this.labels.push({text: data.miss.says, at: new THREE.Vector3(...data.miss.from).addScaledVector(out, 0.3), look: "miss"});
    }
  }

  // step: of data.ages_ms; what it shows is in the solid bodies
  show(step) {
    const {data} = this;
    this.step = step;
    this.solid.begin();
    for (const body of data.bodies ?? []) {
      const bones = body.steps[step];
      const struck = body.struck >= 0 && step === data.ruled_step ? {[body.struck]: COLOURS.accent} : null;
      const colour = body.role === "cover" ? COLOURS.cover : teamColour(body.team);
      if (bones) this.solid.add(body.rig, bones, 0, colour, struck);
    }
    this.solid.end();
  }

  // the target's place, or where the shot ended: what a camera looks at
  focus() {
    const {data} = this;
    const target = (data.bodies ?? []).find(b => b.role === "target" && b.steps.some(Boolean));
    if (target) {
      const bones = target.steps[Math.max(this.step, 0)] ?? target.steps.find(Boolean), at = new THREE.Vector3();
      for (let k = 0; k < bones.length; k += 7) at.add(new THREE.Vector3(bones[k], bones[k + 1], bones[k + 2]));
      return at.multiplyScalar(7 / bones.length);
    }
    return new THREE.Vector3(...(data.rays[0]?.to ?? data.aim));
  }

  // a camera's place from which the target, the end of the shot and some of its way are in sight
  // level: walls that must not stand in between
  frame(camera, level) {
    const focus = this.focus(), origin = new THREE.Vector3(...this.data.origin);
    const back = origin.clone().sub(focus), far = back.length() || 1;
    back.divideScalar(far);
    const aside = new THREE.Vector3(-back.y, back.x, 0).normalize(), away = Math.min(Math.max(far * 0.4, 2.2), 3.4);
    // beyond the target and beside the line of fire: the target is near, and the shooter is in the picture behind it
    const places = [[-0.78, 0.66], [-0.78, -0.66], [0.5, 0.85], [0.5, -0.85], [0, 1], [0, -1]].map(([along, side]) =>
      focus.clone().addScaledVector(back, along * away).addScaledVector(aside, side * away).setZ(focus.z + 0.3 * away));
    const free = places.map(place => clearWay(level, focus, place));
    const best = free.findIndex(share => share >= 1), chosen = best >= 0 ? best : free.indexOf(Math.max(...free));
    camera.position.lerpVectors(focus, places[chosen], free[chosen] >= 1 ? 1 : 0.85 * free[chosen]);
    camera.up.set(0, 0, 1);
    focus.addScaledVector(back, Math.min(0.2 * far, 0.5));
    camera.lookAt(focus);
    return focus;
  }

  say(labels, camera, width, height) {
    labels.begin();
    for (const body of this.data.bodies ?? []) {
      const bones = body.steps[this.step];
      if (!bones) continue;
      let top = -Infinity, x = 0, y = 0;
      for (let k = 0; k < bones.length; k += 7) if (bones[k + 2] > top) { top = bones[k + 2]; x = bones[k]; y = bones[k + 1]; }
      labels.put(`b${body.entity}`, body.name, new THREE.Vector3(x, y, top + 0.25), camera, width, height, body.team);
    }
    this.labels.forEach((one, k) => labels.put(`l${k}`, one.text, one.at, camera, width, height, one.look));
    labels.end();
  }

  dispose() {
    for (const one of [this.solid, this.claimed, this.ruled, this.present, this.shooter]) one.dispose();
    disposeAll(this.group);
  }
}

// How much of a way is free of walls, from 0 to 1; panes are no walls.
function clearWay(level, from, to) {
  const way = to.clone().sub(from), far = way.length(), ray = new THREE.Raycaster(from, way.clone().normalize(), 0, far * 1.15);
  const met = (level?.children ?? []).filter(one => one.isMesh && !one.material.transparent).flatMap(one => ray.intersectObject(one));
  return met.length ? Math.min(...met.map(one => one.distance)) / (far * 1.15) : 1;
}

// -- what is said of a ruling: all of it as text, since names and words of it come from players -----------------------
export function element(tag, className = "", text = "") {
  const one = document.createElement(tag);
  if (className) one.className = className;
  if (text) one.textContent = text;
  return one;
}

export function differing(data) {
  const box = element("div", "differs");
  for (const row of data.differs ?? []) {
    const one = element("div");
    one.append(element("span", "", `${row.what}: `), element("b", "", row.claimed), element("span", "", " against "), element("b", "held", row.possible));
    box.append(one);
  }
  return box;
}

export function steps(data) {
  const list = element("ul", "steps");
  for (const step of data.steps) list.append(element("li", step.verdict, step.says));
  for (const text of data.hits ?? []) list.append(element("li", "hit", text));
  for (const text of data.why ?? []) list.append(element("li", "note", `-> ${text}`));
  return list;
}

export function legend(data) {
  const box = element("p", "legend"), team = (data.bodies ?? []).find(b => b.role === "target")?.team;
  for (const [text, colour, how] of LEGEND) {
    if (text === "Shooter's screen" && !data.seen) continue;
    if (text === "Used for the decision" && !(data.ruled_step > 0)) continue;
    const one = element("span"), patch = element("i");
    patch.style.background = hex(text === "Slider position" ? teamColour(team) : colour);
    one.append(patch, `${text} (${how})`);
    box.append(one);
  }
  return box;
}

export function agesText(data, step) {
  if (!data.seen) return "Server now; the claimed view is no longer in history";
  const ms = data.ages_ms[step];
  const what = step === 0 ? "as the shooter saw it" : step === data.ruled_step ? "as used for the decision"
    : step === data.ages_ms.length - 1 ? "server now" : "in between";
  return `${ms} ms before arrival, ${what}`;
}
