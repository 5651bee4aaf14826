// Keys of the queue: up and down, open, search.
const rows = [...document.querySelectorAll("tr[data-href]")];
let at = -1;
function choose(next) {
  rows[at]?.classList.remove("chosen");
  at = Math.min(Math.max(next, 0), rows.length - 1);
  rows[at]?.classList.add("chosen");
  rows[at]?.scrollIntoView({block: "nearest"});
}
document.addEventListener("keydown", event => {
  if (event.target.closest?.("input, select") || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "j" || event.key === "ArrowDown") { choose(at + 1); event.preventDefault(); }
  if (event.key === "k" || event.key === "ArrowUp") { choose(at - 1); event.preventDefault(); }
  if (event.key === "Enter" && rows[at]) location.href = rows[at].dataset.href;
  if (event.key === "/") { document.querySelector("input[type=search]").focus(); event.preventDefault(); }
});
