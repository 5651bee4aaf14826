// Bodies as their hitboxes, drawn the way the server holds them: parts fixed to bones, in two drawing calls for everybody.
import * as THREE from "./vendor/three.js";
import {softwareDrawn} from "./ground.js";

const SPHERE = 0, CAPSULE = 1, BOX = 2;

// Light from above and one side, worked out a corner and not a pixel: machines without a graphics card draw it too.
export const SHADE = `
vec3 shaded(vec3 colour, vec3 normal) {
  float sun = max(dot(normal, normalize(vec3(-0.45, -0.6, 0.9))), 0.0);
  return colour * (0.7 + 0.1 * normal.z + 0.26 * sun);
}`;
// Balls and capsules are one shape: its ends are moved apart by half the capsule's length. Boxes are stretched.
const VERTEX = `${SHADE}
attribute float end;
attribute vec3 size;
varying vec3 vColour;
void main() {
  vec3 place = end == 0.0 ? position * size : position * size.x + vec3(0.0, 0.0, end * size.y);
  vec4 at = modelMatrix * instanceMatrix * vec4(place, 1.0);
  vColour = shaded(instanceColor, normalize(mat3(modelMatrix) * mat3(instanceMatrix) * normal));
  gl_Position = projectionMatrix * viewMatrix * at;
}`;
const FRAGMENT = `
uniform float opacity;
varying vec3 vColour;
void main() { gl_FragColor = vec4(vColour, opacity); }`;

// soft: coarser, where the processor draws
function ballShape(soft) {
  const shape = new THREE.CapsuleGeometry(1, 1, 2, soft ? 7 : 12, 1).rotateX(Math.PI / 2), place = shape.attributes.position;
  const ends = new Float32Array(place.count);
  for (let k = 0; k < place.count; k++) {
    ends[k] = place.getZ(k) >= 0 ? 1 : -1;
    place.setZ(k, place.getZ(k) - 0.5 * ends[k]);
  }
  shape.setAttribute("end", new THREE.BufferAttribute(ends, 1));
  return shape;
}

function boxShape() {
  const shape = new THREE.BoxGeometry(2, 2, 2);
  shape.setAttribute("end", new THREE.BufferAttribute(new Float32Array(shape.attributes.position.count), 1));
  return shape;
}

function materialOf(look) {
  const clear = (look.opacity ?? 1) < 1;
  return new THREE.ShaderMaterial({vertexShader: VERTEX, fragmentShader: FRAGMENT, uniforms: {opacity: {value: look.opacity ?? 1}},
    wireframe: Boolean(look.wire), transparent: clear, depthWrite: !clear || look.opacity > 0.5 && !look.wire});
}

// All bodies of one look in two drawing calls. most: bodies at once; look: {opacity, wire, order}
// rigs: {name: {parts: [{bone, shape: [kind, size...], at: [3], turn: [4]}], bones, eye}}
export class Crowd {
  constructor(rigs, most, look = {}) {
    this.group = new THREE.Group();
    this.rigs = {};
    const parts = Math.max(1, ...Object.values(rigs).map(rig => rig.parts.length)), material = materialOf(look);
    this.kinds = [ballShape(softwareDrawn()), boxShape()].map(shape => {
      shape.setAttribute("size", new THREE.InstancedBufferAttribute(new Float32Array(3 * most * parts), 3));
      const mesh = new THREE.InstancedMesh(shape, material, most * parts);
      mesh.instanceColor = new THREE.InstancedBufferAttribute(new Float32Array(3 * most * parts), 3);
      mesh.frustumCulled = false;
      mesh.renderOrder = look.order ?? 0;
      mesh.count = 0;
      this.group.add(mesh);
      return {mesh, size: shape.attributes.size, used: 0};
    });
    this.most = most * parts;
    for (const [name, rig] of Object.entries(rigs)) {
      this.rigs[name] = rig.parts.map(part => {
        const [kind, a, b, c] = part.shape, size = kind === SPHERE ? [a, 0, 0] : kind === CAPSULE ? [b, a, 0] : [a, b, c];
        return {kind: this.kinds[kind === BOX ? 1 : 0], bone: part.bone, size, local: new THREE.Matrix4().compose(new THREE.Vector3(...part.at),
          new THREE.Quaternion(...part.turn), new THREE.Vector3(1, 1, 1))};
      });
    }
    this.where = new THREE.Matrix4();
    this.place = new THREE.Vector3();
    this.turn = new THREE.Quaternion();
    this.one = new THREE.Vector3(1, 1, 1);
    this.colour = new THREE.Color();
    this.begin();
  }

  begin() {
    for (const kind of this.kinds) kind.used = 0;
  }

  // bones: 7 numbers a bone from `offset`: xyz and quaternion xyzw; colour: of the body; struck: {part row: colour}
  add(rigName, bones, offset, colour, struck = null) {
    this.rigs[rigName]?.forEach((part, k) => {
      const {kind, size} = part, row = kind.used, at = offset + 7 * part.bone;
      if (row >= this.most) return;
      kind.used += 1;
      this.place.set(bones[at], bones[at + 1], bones[at + 2]);
      this.turn.set(bones[at + 3], bones[at + 4], bones[at + 5], bones[at + 6]).normalize();
      this.where.compose(this.place, this.turn, this.one).multiply(part.local).toArray(kind.mesh.instanceMatrix.array, 16 * row);
      this.colour.set(struck && struck[k] !== undefined ? struck[k] : colour).toArray(kind.mesh.instanceColor.array, 3 * row);
      kind.size.array.set(size, 3 * row);
    });
  }

  end() {
    for (const {mesh, size, used} of this.kinds) {
      mesh.count = used;
      mesh.visible = used > 0;
      for (const [attribute, width] of [[mesh.instanceMatrix, 16], [mesh.instanceColor, 3], [size, 3]]) {
        attribute.clearUpdateRanges();
        attribute.addUpdateRange(0, width * used);
        attribute.needsUpdate = true;
      }
    }
  }

  dispose() {
    for (const {mesh} of this.kinds) { mesh.geometry.dispose(); mesh.dispose(); }
    this.kinds[0].mesh.material.dispose();
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

