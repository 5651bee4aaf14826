// The tabs beside the match: one ruling with its "what if", and one connection over time.
import {ask} from "./asking.js";
import {CURVES, chart} from "/static/drawing/charts.js";
import {agesText, differing, element, steps} from "/static/drawing/shot.js";

export function claimTab(box, data, {stage, redraw, path, step, onStep}) {
  box.replaceChildren(element("p", "answer", data.answer), differing(data));
  box.append(element("p", "note", `Ruling ${data.number}: ${data.kind} of ${data.name || "the server's own"}${data.weapon ? ` with the ${data.weapon}` : ""}, ${data.outcome}, ${data.at.toFixed(3)} s into the match.`));
  if (data.drawn) box.append(slider(data, stage, redraw, step, onStep));
  if (data.kind === "shot" && data.drawn) box.append(whatIf(data, stage, redraw, path));
  box.append(element("h3", "", "Step by step"), steps(data));
}

function slider(data, stage, redraw, step, onStep) {
  const line = element("div", "slide"), input = element("input"), told = element("output");
  Object.assign(input, {type: "range", min: 0, max: data.ages_ms.length - 1, step: 1, value: step >= 0 ? step : stage.layers.step});
  input.setAttribute("aria-label", "From the claimed view to the server's present");
  const show = () => { stage.layers?.show(Number(input.value)); told.textContent = agesText(data, Number(input.value)); redraw(); };
  input.addEventListener("input", () => { show(); onStep(Number(input.value)); });
  line.append(element("span", "note", "its screen"), input, element("span", "note", "present"), told);
  show();
  return line;
}

function whatIf(data, stage, redraw, path) {
  const box = element("div", "whatif"), cap = element("input"), told = element("p");
  Object.assign(cap, {type: "number", min: 0, max: 1000, step: 10, value: 150});
  cap.setAttribute("aria-label", "Another cap in milliseconds");
  const rule = async query => {
    told.textContent = "Casting it again ...";
    try {
      const found = await ask(`${path}/if?${query}`);
      told.textContent = found.says;
      stage.showOther(found, data);
    } catch (error) { told.textContent = error.message; }
    redraw();
  };
  const button = (text, query) => { const one = element("button", "", text); one.addEventListener("click", () => rule(query())); return one; };
  const slid = () => box.parentElement.querySelector("input[type=range]");
  box.append(element("b", "", "What if"), button("capped at", () => `cap_ms=${Number(cap.value)}`), cap, element("span", "", "ms"),
    button("at the estimated display delay", () => "tracked=1"), button("where the slider is", () => `age_ms=${data.ages_ms[Number(slid().value)]}`), told);
  return box;
}

export function lineTab(box, data, onPick) {
  box.replaceChildren();
  if (!data) { box.append(element("p", "note", "It has no connection of its own.")); return; }
  const part = title => { const one = element("div", "chart"); box.append(element("h3", "", title), one); return one; };
  const {trips, told, views} = data, across = "seconds";
  chart(part("Round trip, jitter and lost pings"), {x: trips[0], across, unit: "ms, %", height: 170, onPick, curves: [
    {label: "round trip, ms", values: trips[1], colour: CURVES.pewter}, {label: "jitter, ms", values: trips[2], colour: CURVES.copper}, {label: "lost, %", values: trips[3], colour: CURVES.plum}]});
  chart(part("How far its screen ran behind the server"), {x: told[0], across, unit: "ms", height: 170, onPick, curves: [
    {label: "by each message", values: told[1], colour: CURVES.teal, points: true}, {label: "told", values: told[4], colour: CURVES.pewter, width: 1.2},
    {label: "explained by the line", values: told[3], colour: CURVES.copper, width: 1.2}, {label: "tracked", values: told[2], colour: CURVES.accent, width: 2}]});
  chart(part("Age of its views on arrival, and its bounds"), {x: views[0], across, unit: "ms", height: 180, onPick, marks: [{y: data.cap_ms, label: "cap"}], curves: [
    {label: "age", values: views[1], colour: CURVES.pewter, points: true}, {label: "can't be newer", values: views[2], colour: CURVES.copper, width: 1.2}, {label: "later is noted", values: views[3], colour: CURVES.amber, width: 1.2}]});
}
