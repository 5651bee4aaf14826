// Bodies as their hitboxes, drawn the way the server holds them: parts fixed to bones, one instanced mesh a part.
import * as THREE from "./vendor/three.js";

const SPHERE = 0, CAPSULE = 1;

// The shape of one part, in its own frame: [shape, size x, size y, size z].
function geometryOf([shape, a, b, c]) {
  if (shape === SPHERE) return new THREE.SphereGeometry(a, 12, 8);
  if (shape === CAPSULE) return new THREE.CapsuleGeometry(b, 2 * a, 3, 10, 1).rotateX(Math.PI / 2);
  return new THREE.BoxGeometry(2 * a, 2 * b, 2 * c);
}

// look: {opacity, wire, flat}; rigs: {name: {parts: [{bone, shape: [4], at: [3], turn: [4]}], bones, eye}}
export class Crowd {
  constructor(rigs, most, look = {}) {
    this.group = new THREE.Group();
    this.rigs = {};
    for (const [name, rig] of Object.entries(rigs)) {
      const material = look.wire
        ? new THREE.MeshBasicMaterial({wireframe: true, transparent: true, opacity: look.opacity ?? 1, depthWrite: false})
        : new THREE.MeshLambertMaterial({transparent: (look.opacity ?? 1) < 1, opacity: look.opacity ?? 1,
            depthWrite: (look.opacity ?? 1) > 0.5});
      this.rigs[name] = {rig, used: 0, parts: rig.parts.map(part => {
        const mesh = new THREE.InstancedMesh(geometryOf(part.shape), material, most);
        mesh.frustumCulled = false;
        mesh.renderOrder = look.order ?? 0;
        mesh.count = 0;
        this.group.add(mesh);
        return {mesh, bone: part.bone, local: new THREE.Matrix4().compose(new THREE.Vector3(...part.at),
          new THREE.Quaternion(...part.turn), new THREE.Vector3(1, 1, 1))};
      })};
    }
    this.where = new THREE.Matrix4();
    this.place = new THREE.Vector3();
    this.turn = new THREE.Quaternion();
    this.one = new THREE.Vector3(1, 1, 1);
    this.colour = new THREE.Color();
  }

  begin() {
    for (const each of Object.values(this.rigs)) each.used = 0;
  }

  // bones: 7 numbers a bone from `offset`: xyz and quaternion xyzw; colour: of the body; struck: {part row: colour}
  add(rigName, bones, offset, colour, struck = null) {
    const each = this.rigs[rigName];
    if (!each) return;
    const row = each.used++;
    each.parts.forEach((part, k) => {
      const at = offset + 7 * part.bone;
      this.place.set(bones[at], bones[at + 1], bones[at + 2]);
      this.turn.set(bones[at + 3], bones[at + 4], bones[at + 5], bones[at + 6]).normalize();
      this.where.compose(this.place, this.turn, this.one).multiply(part.local);
      part.mesh.setMatrixAt(row, this.where);
      part.mesh.setColorAt(row, this.colour.set(struck && struck[k] !== undefined ? struck[k] : colour));
    });
  }

  end() {
    for (const each of Object.values(this.rigs)) {
      for (const part of each.parts) {
        part.mesh.count = each.used;
        part.mesh.instanceMatrix.needsUpdate = true;
        if (part.mesh.instanceColor) part.mesh.instanceColor.needsUpdate = true;
      }
    }
  }

  dispose() {
    for (const each of Object.values(this.rigs)) {
      for (const part of each.parts) { part.mesh.geometry.dispose(); part.mesh.material.dispose(); part.mesh.dispose(); }
    }
    this.group.removeFromParent();
  }
}

// A point fixed to a bone, in the world.
export function onBone(bones, offset, bone, at) {
  const k = offset + 7 * bone;
  return new THREE.Vector3(...at)
    .applyQuaternion(new THREE.Quaternion(bones[k + 3], bones[k + 4], bones[k + 5], bones[k + 6]).normalize())
    .add(new THREE.Vector3(bones[k], bones[k + 1], bones[k + 2]));
}

// Where a bone looks: its own x axis.
export function facing(bones, offset, bone) {
  const k = offset + 7 * bone;
  return new THREE.Vector3(1, 0, 0)
    .applyQuaternion(new THREE.Quaternion(bones[k + 3], bones[k + 4], bones[k + 5], bones[k + 6]).normalize());
}

// Between two poses of `count` numbers: places along the line, turns the short way round. Where somebody leapt, the later.
export function between(a, atA, b, atB, share, count, out) {
  const far = Math.abs(a[atA] - b[atB]) + Math.abs(a[atA + 1] - b[atB + 1]) + Math.abs(a[atA + 2] - b[atB + 2]);
  const f = far > 2 ? (share < 1 ? 0 : 1) : share;
  for (let k = 0; k < count; k += 7) {
    const p = atA + k, q = atB + k;
    for (let i = 0; i < 3; i++) out[k + i] = a[p + i] + f * (b[q + i] - a[p + i]);
    let dot = 0;
    for (let i = 3; i < 7; i++) dot += a[p + i] * b[q + i];
    const side = dot < 0 ? -f : f;
    for (let i = 3; i < 7; i++) out[k + i] = (1 - f) * a[p + i] + side * b[q + i];
  }
  return out;
}

