// The tabs beside the match: one ruling with its "what if", and one connection over time.
import {ask} from "./asking.js";
import {CURVES, chart} from "/static/drawing/charts.js";
import {agesText, differing, element, steps} from "/static/drawing/shot.js";

export function claimTab(box, data, {stage, redraw, path, step, onStep}) {
  box.replaceChildren(element("p", "answer", data.answer), differing(data));
  box.append(element("p", "note", `Claim ${data.number}: ${data.kind} by ${data.name || "the server"}${data.weapon ? ` with the ${data.weapon}` : ""}, ${data.outcome}, ${data.at.toFixed(3)} s into the match.`));
  if (data.drawn) box.append(slider(data, stage, redraw, step, onStep));
  if (data.kind === "shot" && data.drawn) box.append(whatIf(data, stage, redraw, path));
  box.append(element("h3", "", "Checks"), steps(data));
}

function slider(data, stage, redraw, step, onStep) {
  const line = element("div", "slide"), input = element("input"), told = element("output");
  Object.assign(input, {type: "range", min: 0, max: data.ages_ms.length - 1, step: 1, value: step >= 0 ? step : stage.layers.step});
  input.setAttribute("aria-label", "Time: shooter's screen to server now");
  const show = () => { stage.layers?.show(Number(input.value)); told.textContent = agesText(data, Number(input.value)); redraw(); };
  input.addEventListener("input", () => { show(); onStep(Number(input.value)); });
  line.append(element("span", "note", "Shooter's screen"), input, element("span", "note", "Server now"), told);
  show();
  return line;
}

function whatIf(data, stage, redraw, path) {
  const box = element("div", "whatif"), cap = element("input"), told = element("p");
  Object.assign(cap, {type: "number", min: 0, max: 1000, step: 10, value: 150});
  cap.setAttribute("aria-label", "Rewind limit in milliseconds");
  const rule = async query => {
    told.textContent = "Recalculating...";
    try {
      const found = await ask(`${path}/if?${query}`);
      told.textContent = found.says;
      stage.showOther(found, data);
    } catch (error) { told.textContent = error.message; }
    redraw();
  };
  const button = (text, query) => { const one = element("button", "", text); one.addEventListener("click", () => rule(query())); return one; };
  const slid = () => box.parentElement.querySelector("input[type=range]");
  box.append(element("b", "", "Try another rewind"), button("Limit", () => `cap_ms=${Number(cap.value)}`), cap, element("span", "", "ms"),
    button("Estimated display delay", () => "tracked=1"), button("Slider position", () => `age_ms=${data.ages_ms[Number(slid().value)]}`), told);
  return box;
}

export function lineTab(box, data, onPick) {
  box.replaceChildren();
  if (!data) { box.append(element("p", "note", "Controlled by the server (no connection)")); return; }
  const part = title => { const one = element("div", "chart"); box.append(element("h3", "", title), one); return one; };
  const {trips, told, views} = data, across = "seconds";
  chart(part("Ping, jitter and loss"), {x: trips[0], across, unit: "ms, %", height: 170, onPick, curves: [
    {label: "Ping, ms", values: trips[1], colour: CURVES.pewter}, {label: "Jitter, ms", values: trips[2], colour: CURVES.copper}, {label: "Loss, %", values: trips[3], colour: CURVES.plum}]});
  chart(part("Display delay"), {x: told[0], across, unit: "ms", height: 170, onPick, curves: [
    {label: "Per message", values: told[1], colour: CURVES.teal, points: true}, {label: "Reported", values: told[4], colour: CURVES.pewter, width: 1.2},
    {label: "Explained by the connection", values: told[3], colour: CURVES.copper, width: 1.2}, {label: "Estimate", values: told[2], colour: CURVES.accent, width: 2}]});
  chart(part("View age and limits"), {x: views[0], across, unit: "ms", height: 180, onPick, marks: [{y: data.cap_ms, label: "Rewind limit"}], curves: [
    {label: "Age", values: views[1], colour: CURVES.pewter, points: true}, {label: "Newest possible", values: views[2], colour: CURVES.copper, width: 1.2}, {label: "Logged above", values: views[3], colour: CURVES.amber, width: 1.2}]});
}
