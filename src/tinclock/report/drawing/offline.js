// The page that opens anywhere: the same cards and charts as in the review desk, out of what lies in the page itself.
import {shotCard} from "./card.js";
import {caseCharts} from "./charts.js";

const data = JSON.parse(document.getElementById("data").textContent);
caseCharts(data);
const surfacesOf = match => data.levels[match].map(one => ({...one, corners: new Float32Array(one.corners)}));
const near = new IntersectionObserver(entries => entries.filter(one => one.isIntersecting).forEach(one => {
  const box = one.target, shot = data.shots[Number(box.dataset.shot)];
  near.unobserve(box);
  shotCard(box, shot, data.rigs[shot.match], surfacesOf(shot.match));
}), {rootMargin: "300px"});
document.querySelectorAll(".shot").forEach(box => near.observe(box));
document.body.dataset.ready = "yes";
