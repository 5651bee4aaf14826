// The world that bodies stand in: light, level, a ground with a metre grid, names, lines.
import * as THREE from "./vendor/three.js";

THREE.ColorManagement.enabled = false;  // colours as they are written: nothing is worked out for each pixel

export const COLOURS = {
  paper: 0xe9edf0, ink: 0x22282e, faint: 0x8b949a, copper: 0xb4622a, pewter: 0x4f6a7d, other: 0x7b8288,
  accent: 0xc0262d, accepted: 0x2d7d5a, adjusted: 0xc98a12, rejected: 0x8a2f6b,
  present: 0xaab3b8, ruled: 0xe0b03c, claimed: 0x2f8fb3, cover: 0x8b6b45, ray: 0xc0262d,
};
const PALE = new THREE.Color(0xdfe4e6);
export const hex = colour => `#${colour.toString(16).padStart(6, "0")}`;

export function teamColour(team) {
  return COLOURS[team] ?? (team ? COLOURS.pewter : COLOURS.other);
}

export function newScene() {
  const scene = new THREE.Scene();
  scene.background = new THREE.Color(COLOURS.paper);
  return scene;
}

const VERTEX = `
varying vec3 vColour;
void main() {
  vColour = color;
  gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
}`;
const FRAGMENT = `
uniform float opacity;
varying vec3 vColour;
void main() { gl_FragColor = vec4(vColour, opacity); }`;

// surfaces: [{name, colour, sees, corners: Float32Array of 9 numbers a triangle}]
export function levelMeshes(surfaces) {
  const group = new THREE.Group();
  for (const surface of surfaces) {
    const shape = new THREE.BufferGeometry();
    shape.setAttribute("position", new THREE.BufferAttribute(surface.corners, 3));
    const glass = surface.sees;
    shape.setAttribute("color", new THREE.BufferAttribute(shades(surface.corners, new THREE.Color(surface.colour).lerp(PALE, glass ? 0 : 0.3)), 3));
    const mesh = new THREE.Mesh(shape, new THREE.ShaderMaterial({vertexShader: VERTEX, fragmentShader: FRAGMENT, vertexColors: true, uniforms: {opacity: {value: glass ? 0.28 : 1}},
      transparent: glass, depthWrite: !glass, side: THREE.DoubleSide}));
    mesh.name = surface.name;
    mesh.renderOrder = glass ? 2 : 0;
    group.add(mesh);
    if (glass) {  // panes have edges, so that nobody takes them for ground or air
      const edges = new THREE.LineSegments(new THREE.EdgesGeometry(shape, 30),
        new THREE.LineBasicMaterial({color: 0x3f7f96, transparent: true, opacity: 0.8}));
      group.add(edges);
    }
  }
  return group;
}

// One shade a triangle, by how it lies to the light: the same light that bodies have.
function shades(corners, colour) {
  const out = new Float32Array(corners.length), [a, b, c] = [new THREE.Vector3(), new THREE.Vector3(), new THREE.Vector3()];
  const sun = new THREE.Vector3(-0.45, -0.6, 0.9).normalize();
  for (let k = 0; k < corners.length; k += 9) {
    a.fromArray(corners, k); b.fromArray(corners, k + 3).sub(a); c.fromArray(corners, k + 6).sub(a);
    const normal = b.cross(c).normalize(), light = 0.7 + 0.1 * normal.z + 0.26 * Math.max(normal.dot(sun), 0);
    for (let corner = 0; corner < 9; corner += 3) { out[k + corner] = colour.r * light; out[k + corner + 1] = colour.g * light; out[k + corner + 2] = colour.b * light; }
  }
  return out;
}

// Drawn by the processor where there is no graphics card: then without smoothing, which costs as much as all the rest.
export function newRenderer(canvas, more = {}) {
  const soft = softwareDrawn();
  const made = new THREE.WebGLRenderer({canvas, antialias: !soft, alpha: false, powerPreference: "high-performance", ...more});
  made.outputColorSpace = THREE.LinearSRGBColorSpace;
  return made;
}

let soft = null;
export function softwareDrawn() {
  if (soft !== null) return soft;
  const gl = document.createElement("canvas").getContext("webgl2"), told = gl?.getExtension("WEBGL_debug_renderer_info");
  const name = gl ? String(gl.getParameter(told ? told.UNMASKED_RENDERER_WEBGL : gl.RENDERER)) : "";
  gl?.getExtension("WEBGL_lose_context")?.loseContext();
  soft = /swiftshader|llvmpipe|software|basic render/i.test(name);
  return soft;
}

// A grid of metres, with every fifth line darker, around a middle.
export function metreGrid(x, y, z, half) {
  const group = new THREE.Group(), from = -Math.round(half), until = Math.round(half);
  const thin = [], thick = [];
  for (let k = from; k <= until; k++) {
    const into = (Math.round(x) + k) % 5 === 0 ? thick : thin, across = (Math.round(y) + k) % 5 === 0 ? thick : thin;
    into.push(Math.round(x) + k, Math.round(y) + from, z, Math.round(x) + k, Math.round(y) + until, z);
    across.push(Math.round(x) + from, Math.round(y) + k, z, Math.round(x) + until, Math.round(y) + k, z);
  }
  for (const [points, opacity] of [[thin, 0.16], [thick, 0.42]]) {
    const lines = new THREE.BufferGeometry();
    lines.setAttribute("position", new THREE.Float32BufferAttribute(points, 3));
    group.add(new THREE.LineSegments(lines, new THREE.LineBasicMaterial({color: COLOURS.ink, transparent: true,
      opacity, depthWrite: false})));
  }
  return group;  // the fine lines first
}

// A straight way as a thin tube, which has the same width everywhere and can be told from a grid line.
export function tube(from, to, radius, colour, opacity = 1) {
  const a = new THREE.Vector3(...from), b = new THREE.Vector3(...to), length = a.distanceTo(b);
  const mesh = new THREE.Mesh(new THREE.CylinderGeometry(radius, radius, Math.max(length, 1e-4), 6, 1, true).rotateX(Math.PI / 2),
    new THREE.MeshBasicMaterial({color: colour, transparent: opacity < 1, opacity}));
  mesh.position.copy(a).lerp(b, 0.5);
  if (length > 1e-6) mesh.lookAt(b);
  return mesh;
}

export function dashed(points, colour, dash = 0.18) {
  const shape = new THREE.BufferGeometry().setFromPoints(points.map(p => new THREE.Vector3(...p)));
  const line = new THREE.Line(shape, new THREE.LineDashedMaterial({color: colour, dashSize: dash, gapSize: dash * 0.7}));
  line.computeLineDistances();
  return line;
}

export function ball(at, radius, colour) {
  const mesh = new THREE.Mesh(new THREE.SphereGeometry(radius, 12, 8), new THREE.MeshBasicMaterial({color: colour}));
  mesh.position.set(...at);
  return mesh;
}

const LABEL_PX = {width: 80, height: 20}; // about what a name takes

// Text that stays over a point of the scene: an element each, moved every frame. Names come from players: text only.
export class Labels {
  constructor(parent) {
    this.layer = document.createElement("div");
    this.layer.className = "labels";
    parent.append(this.layer);
    this.all = new Map();
    this.at = new THREE.Vector3();
    this.over = null; // an element at the top left that texts stay below
  }

  begin() {
    const {over} = this, height = over ? over.offsetHeight : 0;
    this.free = height ? {right: over.parentElement.offsetLeft + over.offsetWidth, top: over.parentElement.offsetTop + height} : null;
    for (const one of this.all.values()) one.seen = false;
  }

  put(key, text, position, camera, width, height, className = "", left = 0, top = 0) {
    this.at.copy(position).project(camera);
    if (this.at.z > 1 || Math.abs(this.at.x) > 1 || Math.abs(this.at.y) > 1) return;
    let one = this.all.get(key);
    if (!one) {
      one = {element: document.createElement("span"), seen: true, text: ""};
      this.layer.append(one.element);
      this.all.set(key, one);
    }
    one.seen = true;
    if (one.text !== text) { one.element.textContent = text; one.text = text; }
    const wanted = `label ${className}`;
    if (one.element.className !== wanted) one.element.className = wanted;
    const x = left + (this.at.x + 1) * width / 2, y = top + (1 - this.at.y) * height / 2;
    const below = this.free && x < this.free.right + LABEL_PX.width / 2 ? this.free.top + LABEL_PX.height : 0;
    one.element.style.transform = `translate(${x.toFixed(1)}px,${Math.max(y, below).toFixed(1)}px) translate(-50%,-100%)`;
    one.element.hidden = false;
  }

  end() { for (const one of this.all.values()) if (!one.seen) one.element.hidden = true; }
}

export function disposeAll(group) {
  group.traverse(one => {
    one.geometry?.dispose();
    if (one.material) (Array.isArray(one.material) ? one.material : [one.material]).forEach(each => each.dispose());
  });
  group.removeFromParent();
}
