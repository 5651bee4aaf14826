// The page of one case: charts, shots that are read when they come into sight, keys, and who else has it open.
import {ask, looksOf} from "./asking.js";
import {shotCard} from "/static/drawing/card.js";
import {caseCharts} from "/static/drawing/charts.js";

caseCharts(JSON.parse(document.getElementById("data").textContent));

async function draw(box) {
  const {match, number, kind} = box.dataset, query = new URLSearchParams({match, number, kind});
  const waiting = Object.assign(document.createElement("p"), {className: "note", textContent: "Loading shot..."});
  box.append(waiting);
  try {
    const [data, {info, surfaces}] = await Promise.all([ask(`/api/case/shot?${query}`), looksOf(match)]);
    waiting.remove();
    shotCard(box, data, info.rigs, surfaces);
  } catch (error) {
    waiting.textContent = `Cannot show this shot: ${error.message}`;
    box.dataset.drawn = "no";
  }
}
const near = new IntersectionObserver(entries => entries.filter(one => one.isIntersecting).forEach(one => {
  near.unobserve(one.target); draw(one.target); }), {rootMargin: "200px"});
document.querySelectorAll(".shot").forEach(box => near.observe(box));

const account = document.body.dataset.account, others = document.getElementById("others");
setInterval(async () => {
  const told = await ask(`/api/case/here?account=${encodeURIComponent(account)}`).catch(() => ({others: []}));
  others.hidden = !told.others.length;
  others.textContent = `${told.others.join(", ")} ${told.others.length === 1 ? "is" : "are"} also viewing this case.`;
}, 10000);

document.addEventListener("keydown", event => {
  if (event.target.closest?.("input, textarea, select") || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "d") document.querySelector("#decide")?.scrollIntoView();
  if (event.key === "s") document.querySelector(".shot")?.scrollIntoView();
  if (event.key === "n" && document.body.dataset.next) location.href = `/case?account=${encodeURIComponent(document.body.dataset.next)}`;
});
document.body.dataset.ready = "yes";
