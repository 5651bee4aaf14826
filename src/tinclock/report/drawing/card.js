// A shot on a page of its own: a small scene with a slider, what was decided and why. Drawn only when something moves.
import * as THREE from "./vendor/three.js";
import {OrbitControls} from "./vendor/three.js";
import {Labels, levelMeshes, metreGrid, newRenderer, newScene} from "./ground.js";
import {ShotLayers, agesText, differing, element, legend, steps} from "./shot.js";

let shared = null;  // one drawing context for all cards: a browser has few

function renderer(width, height) {
  if (!shared) {
    shared = newRenderer(document.createElement("canvas"), {antialias: true, preserveDrawingBuffer: true});
    shared.setPixelRatio(Math.min(globalThis.devicePixelRatio || 1, 1.5));
  }
  const size = shared.getSize(new THREE.Vector2());
  if (size.x !== width || size.y !== height) shared.setSize(width, height, false);
  return shared;
}

// parent: an element; data: a ruling's scene; rigs: by name; surfaces: of the level
export function shotCard(parent, data, rigs, surfaces) {
  const said = element("p", "answer", data.answer);
  parent.append(said, differing(data));
  if (data.drawn) drawn(parent, data, rigs, surfaces);
  else parent.append(element("p", "note", "No picture: the claim was rejected before aiming, or the positions are no longer in history."));
  const more = element("details"), summary = element("summary", "", "How this was decided");
  more.append(summary, steps(data));
  parent.append(more);
  parent.dataset.drawn = data.drawn ? "yes" : "no";
}

function drawn(parent, data, rigs, surfaces) {
  const stage = element("div", "stage"), canvas = element("canvas"), labels = new Labels(stage);
  const cross = element("i", "cross");
  cross.hidden = true;
  stage.append(cross);
  canvas.tabIndex = 0;
  canvas.setAttribute("aria-label", "The shot in three dimensions: drag to turn, click and scroll to come nearer");
  stage.prepend(canvas);
  const slide = element("div", "slide"), slider = element("input"), told = element("output");
  Object.assign(slider, {type: "range", min: 0, max: data.ages_ms.length - 1, step: 1});
  slider.setAttribute("aria-label", "From the claimed view to Server now");
  const eyes = element("button", "", "Shooter view");
  eyes.type = "button";
  eyes.setAttribute("aria-pressed", "false");
  slide.append(element("span", "", "Shooter's screen"), slider, element("span", "", "Server now"), told, eyes);
  parent.append(stage, slide, legend(data));

  const scene = newScene(), camera = new THREE.PerspectiveCamera(42, 2, 0.05, 400);
  const layers = new ShotLayers(rigs, data);
  const level = levelMeshes(surfaces), focus = layers.frame(camera, level);
  const floor = Math.min(...data.bodies.flatMap(b => (b.steps.find(Boolean) ?? [0, 0, 0]).filter((_, k) => k % 7 === 2)));
  scene.add(layers.group, level, metreGrid(focus.x, focus.y, Number.isFinite(floor) ? Math.max(floor - 0.08, 0.012) : 0.012, 12));
  slider.value = String(layers.step);
  const controls = new OrbitControls(camera, canvas);
  controls.target.copy(focus);
  controls.enableZoom = false;
  canvas.addEventListener("focus", () => { controls.enableZoom = true; });
  canvas.addEventListener("blur", () => { controls.enableZoom = false; });

  const context = canvas.getContext("2d");
  const draw = () => {
    const width = stage.clientWidth, height = stage.clientHeight;
    if (!width) return;
    const gl = renderer(width, height), pixels = gl.domElement;
    camera.aspect = width / height;
    camera.updateProjectionMatrix();
    gl.render(scene, camera);
    if (canvas.width !== pixels.width || canvas.height !== pixels.height) { canvas.width = pixels.width; canvas.height = pixels.height; }
    context.drawImage(pixels, 0, 0);
    layers.say(labels, camera, width, height);
  };
  const show = () => {
    layers.show(Number(slider.value));
    told.textContent = agesText(data, layers.step);
    parent.dataset.step = slider.value;
    draw();
  };
  slider.addEventListener("input", show);
  controls.addEventListener("change", draw);
  eyes.addEventListener("click", () => {
    const inside = eyes.getAttribute("aria-pressed") !== "true";
    eyes.setAttribute("aria-pressed", String(inside));
    eyes.textContent = inside ? "Free view" : "Shooter view";
    controls.enabled = !inside;
    cross.hidden = !inside;
    layers.ways.visible = layers.shooter.group.visible = !inside;
    if (inside) lookAlong(camera, data);
    else { controls.target.copy(layers.frame(camera, level)); controls.update(); }
    if (inside) slider.value = "0";
    controls.update();
    show();
  });
  new ResizeObserver(draw).observe(stage);
  controls.update();
  show();
}

// Where the shooter's eye was, and along its aim.
function lookAlong(camera, data) {
  camera.position.set(...data.origin);
  camera.lookAt(...data.aim);
}
