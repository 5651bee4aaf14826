// The match in three dimensions: everybody's hitboxes, names, shots, flights, and the cameras that look at them.
import * as THREE from "/static/drawing/vendor/three.js";
import {OrbitControls} from "/static/drawing/vendor/three.js";
import {Crowd, facing, onBone} from "/static/drawing/bodies.js";
import {COLOURS, Labels, dashed, disposeAll, levelMeshes, metreGrid, newRenderer, newScene, teamColour, tube} from "/static/drawing/ground.js";
import {ShotLayers} from "/static/drawing/shot.js";

const SHOT_S = 0.35, SLOW_MS = 19, MOST_SHOTS = 24;
const OUTCOME = {accepted: COLOURS.accepted, adjusted: COLOURS.adjusted, rejected: COLOURS.rejected};

export class Stage {
  constructor(canvas, view, info, surfaces, poses) {
    Object.assign(this, {canvas, view, info, poses});
    this.gl = newRenderer(canvas);
    this.sharpness = Math.min(globalThis.devicePixelRatio || 1, 1);
    this.gl.setPixelRatio(this.sharpness);
    this.scene = newScene();
    this.level = levelMeshes(surfaces);
    this.scene.add(this.level);
    this.crowd = new Crowd(info.rigs, 160);
    this.scene.add(this.crowd.group);
    this.free = new THREE.PerspectiveCamera(50, 1, 0.05, 600);
    this.free.up.set(0, 0, 1);
    this.above = new THREE.OrthographicCamera(-10, 10, 10, -10, 0.1, 400);
    this.above.up.set(0, 1, 0);
    this.eyes = [new THREE.PerspectiveCamera(75, 1, 0.03, 600), new THREE.PerspectiveCamera(75, 1, 0.03, 600)];
    for (const eye of this.eyes) eye.up.set(0, 0, 1);
    this.controls = new OrbitControls(this.free, canvas);
    this.overhead = new OrbitControls(this.above, canvas);
    this.overhead.enableRotate = false;
    this.overhead.screenSpacePanning = true;
    this.overhead.mouseButtons.LEFT = THREE.MOUSE.PAN;
    this.labels = new Labels(view);
    this.scratch = new Float32Array(7 * 256);
    this.people = new Map();
    this.shots = new THREE.Group();
    this.scene.add(this.shots);
    this.lines = [];
    for (let k = 0; k < MOST_SHOTS; k++) {
      const line = new THREE.Line(new THREE.BufferGeometry().setFromPoints([new THREE.Vector3(), new THREE.Vector3()]),
        new THREE.LineBasicMaterial({transparent: true}));
      line.frustumCulled = false;
      line.visible = false;
      this.shots.add(line);
      this.lines.push(line);
    }
    this.flights = new THREE.Group();
    this.scene.add(this.flights);
    this.flown = new Map();
    this.mode = "free";
    this.layers = null;
    this.usual = 0;
    this.framed = false;
  }

  setPeople(people) { this.people = new Map(people.map(one => [one.entity, one])); }

  // Look at all who are there, once, before anybody has moved the camera.
  frameAll(t) {
    const box = new THREE.Box3();
    for (const [entity, one] of this.people) {
      const count = one.cover ? 0 : this.poses.body(entity, t, this.scratch);
      for (let k = 0; k < count; k += 7) box.expandByPoint(new THREE.Vector3(this.scratch[k], this.scratch[k + 1], this.scratch[k + 2]));
    }
    if (box.isEmpty()) return;
    this.framed = true;
    const middle = box.getCenter(new THREE.Vector3()), size = box.getSize(new THREE.Vector3());
    const whole = new THREE.Box3().setFromObject(this.level);
    const half = Math.max(size.x, size.y, 8) / 2;
    this.free.position.set(middle.x - 0.35 * half, middle.y - 1.75 * half, middle.z + 1.35 * half);
    this.controls.target.copy(middle);
    this.controls.update();
    this.reach = (whole.isEmpty() ? half : Math.max(whole.max.x - middle.x, middle.x - whole.min.x, whole.max.y - middle.y, 6)) * 1.05;
    this.above.position.set(middle.x, middle.y, middle.z + 100);
    this.overhead.target.set(middle.x, middle.y, middle.z);
    this.overhead.update();
    const floor = Math.max(box.min.z - 0.1, 0.012);
    const grid = metreGrid(middle.x, middle.y, floor, Math.min(Math.ceil(this.reach) - 1, 60));
    this.fine = grid.children[0];
    this.scene.add(grid);
  }

  setMode(mode) {
    this.mode = mode;
    this.controls.enabled = mode === "free";
    this.overhead.enabled = mode === "top";
  }

  setWalls(through) {
    for (const mesh of this.level.children.filter(one => one.isMesh && one.renderOrder !== 2 || one.userData.solid)) {
      mesh.userData.solid = true;
      Object.assign(mesh.material, {transparent: through, depthWrite: !through});
      mesh.material.uniforms.opacity.value = through ? 0.18 : 1;
      mesh.material.needsUpdate = true;
      mesh.renderOrder = through ? 3 : 0;
    }
  }

  // -- a chosen ruling ------------------------------------------------------------------------------------------------
  choose(data) {
    this.layers?.dispose();
    this.layers = null;
    this.clearOther();
    if (!data?.drawn) return;
    this.layers = new ShotLayers(this.info.rigs, data);
    this.scene.add(this.layers.group);
    if (this.mode === "free") {
      this.controls.target.copy(this.layers.frame(this.free, this.level));
      this.controls.update();
    }
  }

  // What would have been at another view: bodies as outlines, and where the ray ends then.
  showOther(found, data) {
    this.clearOther();
    if (!found?.bodies?.length) return;
    this.other = new Crowd(this.info.rigs, found.bodies.length, {wire: true, opacity: 0.7, order: 5});
    this.other.begin();
    for (const body of found.bodies) this.other.add(body.rig, body.bones, 0, body.entity === found.hit ? COLOURS.accent : COLOURS.rejected);
    this.other.end();
    this.scene.add(this.other.group);
    if (data?.drawn) {
      const a = new THREE.Vector3(...data.origin), along = new THREE.Vector3(...(data.rays[0]?.to ?? data.aim)).sub(a).normalize();
      this.otherWay = tube(data.origin, a.clone().addScaledVector(along, found.reached_m).toArray(), 0.012, COLOURS.rejected);
      this.scene.add(this.otherWay);
    }
  }

  clearOther() {
    this.other?.dispose();
    this.other = null;
    if (this.otherWay) disposeAll(this.otherWay);
    this.otherWay = null;
  }

  // -- drawing --------------------------------------------------------------------------------------------------------
  // t: server time; marks: rows of shots near it; flights; screens: {whose, other, behind(entity, t)}
  draw(t, {marks, flights, whose, other, behind, aim}) {
    const {gl} = this, width = this.view.clientWidth, height = this.view.clientHeight, size = gl.getSize(new THREE.Vector2());
    if (!width || !height) return;
    if (size.x !== width || size.y !== height) gl.setSize(width, height, false);
    this._shots(t, marks);
    this._flights(t, flights);
    this.labels.over = this.view.querySelector(".panel p");
    this.labels.begin();
    gl.setScissorTest(this.mode === "screens");
    if (this.mode === "screens") {
      const half = Math.floor(width / 2) - 1;
      this.layers && (this.layers.group.visible = false);
      [whose, other].forEach((entity, k) => {
        const left = k ? width - half : 0;
        gl.setViewport(left, 0, half, height);
        gl.setScissor(left, 0, half, height);
        this._bodies(t, entity, behind(entity, t));
        this._look(this.eyes[k], entity, t, half / height, aim(entity, t));
        gl.render(this.scene, this.eyes[k]);
        this._names(t, this.eyes[k], half, height, left, entity, behind(entity, t), `${k}`);
      });
      this.layers && (this.layers.group.visible = true);
    } else {
      gl.setViewport(0, 0, width, height);
      const own = this.mode === "eyes" ? whose : 0;
      this._bodies(t, own, 0);
      let camera = this.free;
      if (this.mode === "eyes") { camera = this.eyes[0]; this._look(camera, own, t, width / height, aim(own, t)); }
      else if (this.mode === "top") { camera = this._above(width / height); }
      else { camera.aspect = width / height; camera.updateProjectionMatrix(); }
      gl.render(this.scene, camera);
      this._names(t, camera, width, height, 0, own, 0, "m");
      this.layers?.labels.forEach((one, k) => this.labels.put(`l${k}`, one.text, one.at, camera, width, height, one.look));
    }
    this.labels.end();
  }

  // Whether a body is in a player's picture, wherever walls are: [in front, where from the middle in degrees].
  sees(eye, entity, t, behind) {
    if (!this.poses.body(entity, t - behind, this.scratch, behind > 0)) return null;
    const at = new THREE.Vector3(this.scratch[0], this.scratch[1], this.scratch[2]), way = at.clone().sub(this.eyes[eye].position);
    const ahead = this.eyes[eye].getWorldDirection(new THREE.Vector3()), angle = THREE.MathUtils.radToDeg(way.angleTo(ahead));
    at.project(this.eyes[eye]);
    return {shown: Math.abs(at.x) <= 1 && Math.abs(at.y) <= 1 && at.z <= 1, angle};
  }

  _above(aspect) {
    const half = (this.reach ?? 10);
    Object.assign(this.above, {left: -half * aspect, right: half * aspect, top: half, bottom: -half});
    this.above.updateProjectionMatrix();
    return this.above;
  }

  _bodies(t, without, behind) {
    const chosen = new Set(this.layers ? this.layers.data.bodies.map(b => b.entity) : []);
    if (this.layers) chosen.add(this.layers.data.entity);
    this.crowd.begin();
    for (const [entity, one] of this.people) {
      if (entity === without || (this.mode !== "screens" && chosen.has(entity))) continue;
      const count = behind > 0 ? this.poses.body(entity, t - behind, this.scratch, true) : this.poses.body(entity, t, this.scratch);
      if (count) this.crowd.add(one.rig, this.scratch, 0, one.cover ? COLOURS.cover : teamColour(one.team));
    }
    this.crowd.end();
  }

  _look(camera, entity, t, aspect, aim) {
    const one = this.people.get(entity), rig = one && this.info.rigs[one.rig];
    camera.aspect = aspect;
    camera.updateProjectionMatrix();
    if (!rig?.eye || !this.poses.body(entity, t, this.scratch)) return;
    const eye = onBone(this.scratch, 0, rig.eye.bone, rig.eye.at);
    camera.position.copy(eye);
    camera.lookAt(eye.clone().add(aim ? new THREE.Vector3(...aim) : facing(this.scratch, 0, rig.eye.bone)));
  }

  _names(t, camera, width, height, left, without, behind, prefix) {
    const top = new THREE.Vector3();
    for (const [entity, one] of this.people) {
      if (entity === without || one.cover) continue;
      const count = this.poses.body(entity, t - behind, this.scratch, behind > 0);
      if (!count) continue;
      top.set(0, 0, -Infinity);
      for (let k = 0; k < count; k += 7) if (this.scratch[k + 2] > top.z) top.set(this.scratch[k], this.scratch[k + 1], this.scratch[k + 2]);
      top.z += 0.28;
      this.labels.put(`${prefix}${entity}`, one.name, top, camera, width, height, one.team, left);
    }
  }

  _shots(t, marks) {
    let used = 0;
    for (const row of marks) {
      if (used >= MOST_SHOTS || !row.way) continue;
      const line = this.lines[used++], place = line.geometry.attributes.position;
      place.setXYZ(0, row.way[0], row.way[1], row.way[2]);
      place.setXYZ(1, row.way[3], row.way[4], row.way[5]);
      place.needsUpdate = true;
      line.visible = true;
      line.material.color.set(row.victim ? COLOURS.accent : OUTCOME[row.outcome]);
      line.material.opacity = Math.max(0.12, 1 - (t - row.at) / SHOT_S);
    }
    for (; used < MOST_SHOTS; used++) this.lines[used].visible = false;
  }

  _flights(t, flights) {
    const now = new Set();
    for (const one of flights) {
      if (one.from > t || one.until < t) continue;
      now.add(one.projectile);
      if (!this.flown.has(one.projectile)) {
        const group = new THREE.Group(), stone = new THREE.Mesh(new THREE.SphereGeometry(0.09, 10, 8), new THREE.MeshBasicMaterial({color: COLOURS.ink}));
        group.add(dashed(one.points, COLOURS.ink, 0.12), stone);
        this.flights.add(group);
        this.flown.set(one.projectile, {group, stone});
      }
      const share = (t - one.from) / Math.max(one.until - one.from, 1e-6) * (one.points.length - 1), k = Math.min(Math.floor(share), one.points.length - 2);
      const f = share - k, [a, b] = [one.points[Math.max(k, 0)], one.points[Math.max(k, 0) + 1]];
      this.flown.get(one.projectile).stone.position.set(...a.map((v, i) => v + f * (b[i] - v)));
    }
    for (const [projectile, {group}] of this.flown) if (!now.has(projectile)) { disposeAll(group); this.flown.delete(projectile); }
  }

  // Less detail where drawing is slow: first the fine lines of the ground go, then pixels, down to half as many each way.
  pace(ms) {
    this.usual += (Math.min(ms, 100) - this.usual) / 20;
    if (this.usual < SLOW_MS) return;
    this.usual = 0.5 * SLOW_MS;
    if (this.fine?.visible) this.fine.visible = false;
    else if (this.sharpness > 0.5) {
      this.sharpness = Math.max(0.5, this.sharpness * 0.8);
      this.gl.setPixelRatio(this.sharpness);
    }
  }
}

export {SHOT_S};
