"use strict";
const data = JSON.parse(document.getElementById("data").textContent);
const INK = "#22282e", PAPER = "#ffffff", FAINT = "#9aa0a3", COPPER = "#b4622a", STRUCK = "#c0262d", PEWTER = "#4f6a7d";
const quiet = {displayModeBar: false, responsive: true};
const dress = (x, y, more) => Object.assign({margin: {l: 52, r: 14, t: 10, b: 40}, paper_bgcolor: PAPER, plot_bgcolor: PAPER,
  font: {size: 11, color: INK}, xaxis: {title: {text: x}, gridcolor: "#eee", zeroline: false},
  yaxis: {title: {text: y}, gridcolor: "#eee", zeroline: false}, legend: {orientation: "h", y: 1.12, x: 0}}, more);
const text = s => String(s).replace(/&/g, "&amp;").replace(/</g, "&lt;").replace(/>/g, "&gt;");
const columns = (rows, k) => rows.map(row => row[k]);

// -- charts -----------------------------------------------------------------------------------------------------
const last = data.ends.length ? data.ends[data.ends.length - 1][0] : 1;
const minutes = {title: {text: "minutes of play"}, gridcolor: "#eee", zeroline: false, range: [0, last]};
const matchLines = data.ends.slice(0, -1).map(([at]) => ({type: "line", x0: at, x1: at, yref: "paper", y0: 0, y1: 1, line: {color: "#ddd", width: 1}}));
const evidence = [{x: columns(data.points, 0), y: columns(data.points, 1), mode: "lines", name: "all together", line: {color: STRUCK, width: 3}}];
data.kinds.slice(0, 5).forEach(kind => {
  evidence.push({x: columns(data.points, 0), y: kind.values, mode: "lines", name: text(kind.title), line: {width: 1.4, dash: "dot"}});
});
Plotly.newPlot("evidence", evidence, dress("minutes of play", "decibans", {showlegend: true, margin: {l: 52, r: 14, t: 84, b: 40},
  legend: {orientation: "h", font: {size: 11}, x: 0, y: 1.02, yanchor: "bottom"}, xaxis: minutes,
  shapes: matchLines.concat([{type: "line", x0: 0, x1: last, y0: data.limit, y1: data.limit, line: {color: INK, width: 1, dash: "dash"}}]),
  annotations: [{x: last, y: data.limit, text: "a case opens", showarrow: false, xanchor: "right", yanchor: "bottom", font: {size: 10}}]}), quiet);
Plotly.newPlot("line", [
  {x: columns(data.lines, 0), y: columns(data.lines, 1), mode: "lines", name: "round trip, ms", line: {color: PEWTER, width: 2}},
  {x: columns(data.lines, 0), y: columns(data.lines, 2), mode: "lines", name: "jitter, ms", line: {color: COPPER, width: 2}},
], dress("minutes of play", "milliseconds", {shapes: matchLines, xaxis: minutes,
  margin: {l: 52, r: 14, t: 84, b: 40}, legend: {orientation: "h", font: {size: 11}, x: 0, y: 1.02, yanchor: "bottom"}, yaxis: {title: {text: "milliseconds"}, rangemode: "tozero", gridcolor: "#eee"}}), quiet);
const names = data.aim.map(row => text(row.title));
Plotly.newPlot("aim", [
  {type: "bar", orientation: "h", y: names, x: columns(data.aim.map(r => [r.best]), 0), name: "up to the best of fair accounts", marker: {color: "#e4ddcf"}, hovertemplate: "%{x:.2f} %<extra></extra>"},
  {mode: "markers", y: names, x: data.aim.map(r => r.typical), name: "average", marker: {symbol: "line-ns-open", size: 16, color: INK}, hovertemplate: "%{x:.2f} %<extra></extra>"},
  {mode: "markers", y: names, x: data.aim.map(r => r.own), name: "this account", customdata: data.aim.map(r => r.trials),
   marker: {size: 12, color: data.aim.map(r => r.own > r.best ? STRUCK : PEWTER)}, hovertemplate: "%{x:.2f} % of %{customdata}<extra></extra>"},
], dress("percent of times", "", {margin: {l: 330, r: 14, t: 10, b: 40}, yaxis: {autorange: "reversed"}}), quiet);

// -- bodies: unit shapes, placed and stretched by what the server held --------------------------------------------
function ball(rings, around) {
  const points = [], faces = [];
  for (let i = 0; i <= rings; i++) for (let j = 0; j < around; j++) {
    const a = Math.PI * i / rings, b = 2 * Math.PI * j / around;
    points.push([Math.sin(a) * Math.cos(b), Math.sin(a) * Math.sin(b), -Math.cos(a)]);
  }
  for (let i = 0; i < rings; i++) for (let j = 0; j < around; j++) {
    const p = i * around + j, q = i * around + (j + 1) % around;
    faces.push([p, q, p + around], [q, q + around, p + around]);
  }
  return {points, faces};
}
const BALL = ball(6, 10);
const BOX = {points: [-1, 1].flatMap(z => [-1, 1].flatMap(y => [-1, 1].map(x => [x, y, z]))),
  faces: [[0, 2, 3], [0, 3, 1], [4, 5, 7], [4, 7, 6], [0, 1, 5], [0, 5, 4], [2, 6, 7], [2, 7, 3], [0, 4, 6], [0, 6, 2], [1, 3, 7], [1, 7, 5]]};
function shaped([shape, a, b, c]) {
  if (shape === 2) return BOX.points.map(([x, y, z]) => [a * x, b * y, c * z]);
  const radius = shape === 1 ? b : a, half = shape === 1 ? a : 0;
  return BALL.points.map(([x, y, z]) => [radius * x, radius * y, radius * z + (z < -1e-9 ? -half : half)]);
}
function placed(shapes, step) {
  const xs = [], ys = [], zs = [];
  shapes.forEach((shape, k) => {
    const [cx, cy, cz, a, b, c, d, e, f, g, h, i] = step[k];
    shaped(shape).forEach(([x, y, z]) => { xs.push(cx + a * x + b * y + c * z); ys.push(cy + d * x + e * y + f * z); zs.push(cz + g * x + h * y + i * z); });
  });
  return {x: xs, y: ys, z: zs};
}
function faces(shapes) {
  const i = [], j = [], k = []; let base = 0;
  shapes.forEach(shape => { const solid = shape[0] === 2 ? BOX : BALL;
    solid.faces.forEach(([p, q, r]) => { i.push(base + p); j.push(base + q); k.push(base + r); }); base += solid.points.length; });
  return {i, j, k};
}
const body = (shapes, step, name, color, opacity) => Object.assign({type: "mesh3d", name, color, opacity, hoverinfo: "name", flatshading: false,
  lighting: {ambient: 0.65, diffuse: 0.6, specular: 0.05}}, faces(shapes), step ? placed(shapes, step) : {x: [], y: [], z: []});

// Replays are drawn when they come near the window: a browser has few 3-D canvases to give.
function draw(element) {
  const shot = data.shots[Number(element.dataset.shot)], scene = element.querySelector(".scene");
  const slider = element.querySelector("input"), output = element.querySelector("output");
  const traces = shot.bodies.map(b => body(b.shapes, b.steps[0], text(b.name), b.target ? "#e9c46a" : "#b9bfc2", 1));
  const ghosts = shot.bodies.filter(b => b.target && b.steps[b.steps.length - 1]).map(b => body(b.shapes, b.steps[b.steps.length - 1], text(b.name) + " at the server's present", "#9aa0a3", 0.18));
  const still = ghosts.slice();
  if (shot.shooter.steps.length && shot.shooter.steps[0]) still.push(body(shot.shooter.shapes, shot.shooter.steps[0], "the shooter", PEWTER, 0.5));
  shot.level.forEach(part => { const n = part.x.length / 3, at = m => Array.from({length: n}, (_, t) => 3 * t + m);
    still.push({type: "mesh3d", name: text(part.surface), x: part.x, y: part.y, z: part.z, i: at(0), j: at(1), k: at(2), color: part.colour,
      opacity: part.surface === "ground" ? 0.35 : part.sees ? 0.16 : 0.3, hoverinfo: "name", flatshading: true}); });
  const way = (a, b, name, color, width, dash) => ({type: "scatter3d", mode: "lines", name, x: [a[0], b[0]], y: [a[1], b[1]], z: [a[2], b[2]], line: {color, width, dash}, hoverinfo: "name"});
  still.push(way(shot.ray[0], shot.aimed, "the aim", FAINT, 2, "dash"), way(shot.ray[0], shot.ray[1], "the shot", STRUCK, 6, "solid"));
  const target = shot.bodies.find(b => b.target && b.steps[0]), focus = target ? target.steps[0][0].slice(0, 3) : shot.ray[1];
  // what must be in sight: the target, where the shot ended, and some of its way there
  const far = Math.hypot(...shot.ray[1].map((v, k) => v - shot.ray[0][k])) || 1, before = Math.max(0, 1 - 2.5 / far);
  const seen = [focus, shot.ray[1], shot.ray[0].map((v, k) => v + before * (shot.ray[1][k] - v))].filter(p => Math.hypot(...p.map((v, k) => v - focus[k])) < 14);
  const axis = k => ({range: [Math.min(...seen.map(p => p[k])) - (k === 2 ? 1.15 : 1.1), Math.max(...seen.map(p => p[k])) + 1.1], visible: false, showspikes: false});
  const long = [0, 1, 2].map(k => axis(k).range[1] - axis(k).range[0]), widestSide = Math.max(...long), ratio = k => 2.2 * long[k] / widestSide;
  const back = shot.ray[0].map((v, k) => v - focus[k]), length = Math.hypot(...back) || 1;
  const eye = {x: 1.0 * back[0] / length - 0.75 * back[1] / length, y: 1.0 * back[1] / length + 0.75 * back[0] / length, z: 0.45};
  Plotly.newPlot(scene, traces.concat(still), {margin: {l: 0, r: 0, t: 0, b: 0}, showlegend: false, paper_bgcolor: PAPER,
    scene: {xaxis: axis(0), yaxis: axis(1), zaxis: axis(2), aspectmode: "manual", aspectratio: {x: ratio(0), y: ratio(1), z: ratio(2)}, camera: {eye, projection: {type: "perspective"}}}}, quiet);
  const show = () => {
    const step = Number(slider.value), age = shot.ages_ms[step];
    shot.bodies.forEach((b, k) => { const at = b.steps[step] ? placed(b.shapes, b.steps[step]) : {x: [], y: [], z: []};
      Plotly.restyle(scene, {x: [at.x], y: [at.y], z: [at.z]}, [k]); });
    output.textContent = `${age} ms before the claim arrived` + (step === 0 ? ", as its screen showed it" : step === shot.ruled ? ", as it was ruled" : "");
    element.dataset.step = String(step);
  };
  slider.addEventListener("input", show);
  show();
  const outlines = shot.screen.flatMap(b => b.outlines.map(o => ({x: o.concat([o[0]]).map(p => p[0]), y: o.concat([o[0]]).map(p => p[1]),
    mode: "lines", fill: "toself", fillcolor: b.hidden ? "rgba(165,100,78,0.06)" : b.target ? "rgba(233,196,106,0.55)" : "rgba(185,191,194,0.4)", line: {color: b.hidden ? FAINT : INK, width: 1, dash: b.hidden ? "dot" : "solid"}, hoverinfo: "skip"})));
  const widest = Math.max(30, ...shot.screen.filter(b => b.target).flatMap(b => b.outlines.flatMap(o => o.flatMap(p => [Math.abs(p[0]), Math.abs(p[1])]))));
  Plotly.newPlot(element.querySelector(".screen"), outlines.concat([{x: [0], y: [0], mode: "markers", marker: {symbol: "cross-thin-open", size: 22, color: STRUCK, line: {width: 2}}, hoverinfo: "skip"}]),
    {margin: {l: 34, r: 6, t: 4, b: 34}, showlegend: false, paper_bgcolor: PAPER, plot_bgcolor: "#eef1f2",
     annotations: shot.screen.some(b => b.target && b.hidden) ? [{text: "behind cover: not on the screen", x: 0.5, y: 0.02, xref: "paper", yref: "paper", showarrow: false, font: {color: STRUCK, size: 12}}] : [], font: {size: 10, color: INK},
     xaxis: {range: [-widest, widest], title: {text: "milliradians from the crosshair"}, zeroline: false}, yaxis: {range: [-widest, widest], scaleanchor: "x", zeroline: false}}, quiet);
  element.dataset.drawn = "yes";
}
const near = new IntersectionObserver(entries => entries.filter(entry => entry.isIntersecting).forEach(entry => {
  near.unobserve(entry.target); draw(entry.target); }), {rootMargin: "300px"});
document.querySelectorAll(".shot").forEach(element => near.observe(element));
document.body.dataset.ready = "yes";
