// Curves over time, with uPlot: legends under the picture, never over it.
import {uPlot} from "./vendor/uplot.js";

const INK = "#22282e", GRID = "#e2e7ea";
export const CURVES = {accent: "#c0262d", pewter: "#4f6a7d", copper: "#b4622a", green: "#2d7d5a", plum: "#8a2f6b", teal: "#2f8fb3", amber: "#a8730a"};

// x: seconds or minutes; curves: [{label, values, colour, width, dash, points}]; marks: [{y, label}] lines across
export function chart(parent, {x, curves, marks = [], unit = "", across = "minutes played", height = 220, from = null, until = null, onPick = null}) {
  if (!x.length) {
    parent.append(Object.assign(document.createElement("p"), {className: "note", textContent: "No data yet"}));
    return null;
  }
  const wide = () => Math.max(parent.clientWidth - 14, 200);
  const options = {
    width: wide(), height, scales: {x: {time: false, range: (_, low, high) => [from ?? low, until ?? Math.max(high, low + 1e-6)]}, y: {range: (_, low, high) => span(low, high, marks)}},
    axes: [{label: across, labelSize: 18, size: 34, stroke: INK, grid: {stroke: GRID}}, {label: unit, labelSize: 18, size: 52, stroke: INK, grid: {stroke: GRID}}],
    cursor: {drag: {x: false, y: false}}, legend: {live: true},
    series: [{label: across, value: (_, v) => (v == null ? "-" : v.toFixed(1))},
      ...curves.map(c => ({label: c.label, stroke: c.colour, width: c.points ? 0 : c.width ?? 1.6, dash: c.dash, spanGaps: true,
        paths: c.points ? () => null : undefined, points: {show: Boolean(c.points), size: 4, stroke: c.colour, fill: c.colour}, value: (_, v) => (v == null ? "-" : v.toFixed(1))}))],
    hooks: {draw: [u => marks.forEach(mark => line(u, mark))], ready: [u => onPick && u.over.addEventListener("click", () => u.cursor.left >= 0 && onPick(u.posToVal(u.cursor.left, "x")))]},
  };
  const made = new uPlot(options, [x, ...curves.map(c => c.values)], parent);
  new ResizeObserver(() => { if (wide() !== made.width) made.setSize({width: wide(), height}); }).observe(parent);
  return made;
}

function span(low, high, marks) {
  const all = [low, high, ...marks.map(m => m.y)].filter(v => v != null && Number.isFinite(v));
  const least = Math.min(0, ...all), most = Math.max(...all, least + 1);
  return [least < 0 ? least * 1.08 : 0, most * 1.08];
}

function line(u, {y, label}) {
  const at = u.valToPos(y, "y", true), {left, top, width, height} = u.bbox;
  if (at < top || at > top + height) return;
  const c = u.ctx, ratio = uPlot.pxRatio;
  c.save();
  c.strokeStyle = INK;
  c.setLineDash([6 * ratio, 4 * ratio]);
  c.beginPath(); c.moveTo(left, at); c.lineTo(left + width, at); c.stroke();
  c.fillStyle = INK;
  c.font = `${11 * ratio}px "DejaVu Sans", sans-serif`;
  c.textAlign = "right";
  c.fillText(label, left + width - 4 * ratio, at - 4 * ratio < top + 10 * ratio ? at + 13 * ratio : at - 4 * ratio);
  c.restore();
}

// The charts of a case: how strong the evidence is, and the line, over minutes of play.
export function caseCharts(data) {
  const {charts} = data, minutes = charts.points.map(p => p[0]), until = Math.max(...minutes, ...charts.lines.map(p => p[0]), 0.1);
  const shades = [CURVES.pewter, CURVES.copper, CURVES.green, CURVES.plum];
  chart(document.getElementById("evidence"), {x: minutes, unit: "decibans", from: 0, until, marks: [{y: charts.limit, label: "Case threshold"}],
    curves: [{label: "Combined", values: charts.points.map(p => p[1]), colour: CURVES.accent, width: 3},
      ...charts.kinds.map((kind, k) => ({label: kind.title, values: kind.values, colour: shades[k], dash: [4, 3], width: 1.4}))]});
  chart(document.getElementById("line"), {x: charts.lines.map(p => p[0]), unit: "ms", from: 0, until,
    curves: [{label: "round trip", values: charts.lines.map(p => p[1]), colour: CURVES.pewter, width: 2},
      {label: "jitter", values: charts.lines.map(p => p[2]), colour: CURVES.copper, width: 2}]});
  for (const bar of document.querySelectorAll(".bar")) {
    const percent = share => `${(100 * Number(share)).toFixed(2)}%`, {own, typical, best} = bar.dataset;
    const honest = document.createElement("i"), mean = document.createElement("b"), dot = document.createElement("u");
    honest.style.width = percent(best);
    mean.style.left = percent(typical);
    dot.style.left = percent(own);
    if (Number(own) > Number(best)) dot.className = "over";
    bar.append(honest, mean, dot);
  }
}
