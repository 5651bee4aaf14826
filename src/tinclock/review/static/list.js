// The list of shots: filtered, and only as many rows in the page as can be seen.
import {element} from "/static/drawing/shot.js";
import {clock, kindOf} from "./timeline.js";

const HIGH = 24, SHOTS = new Set(["shot", "melee", "launch", "impact", "projectile"]);

export class ShotList {
  constructor(box, count, form, onChoose) {
    Object.assign(this, {box, count, form, onChoose, all: [], shown: [], people: new Map(), chosen: 0});
    this.room = element("div", "room");
    box.append(this.room);
    box.addEventListener("scroll", () => this.draw());
    box.addEventListener("click", event => { const row = event.target.closest?.("[data-number]"); if (row) onChoose(Number(row.dataset.number)); });
    form.addEventListener("input", () => this.filter());
    form.addEventListener("submit", event => event.preventDefault());
    new ResizeObserver(() => this.draw()).observe(box);
  }

  get filters() { return Object.fromEntries([...new FormData(this.form)].filter(([, value]) => value)); }

  set(all, people) {
    this.all = all;
    this.people = people;
    const fill = (name, values) => {
      const select = this.form.elements[name], had = new Set([...select.options].map(o => o.value));
      for (const value of [...values].sort()) if (!had.has(value)) select.append(new Option(value.replaceAll("_", " "), value));
    };
    fill("weapon", new Set(all.map(row => row.weapon).filter(Boolean)));
    fill("code", new Set(all.flatMap(row => row.codes)));
    const known = document.getElementById("accounts");
    if (known.options.length !== people.size) known.replaceChildren(...[...people.values()].filter(one => one.player).map(one => new Option(one.name)));
    this.filter();
  }

  name(entity) { return this.people.get(entity)?.name ?? (entity ? `entity ${entity}` : ""); }

  filter() {
    const {q = "", weapon, outcome, code, who, claims} = this.filters, wanted = q.toLowerCase();
    const says = row => !wanted || this.name(row.entity).toLowerCase().includes(wanted) || this.name(row.victim).toLowerCase().includes(wanted);
    const told = row => !outcome || (outcome === "hit" ? row.victim > 0 : outcome === "miss" ? !row.victim && row.outcome !== "rejected" && row.outcome !== "repeated" && row.kind === "shot" : row.outcome === outcome);
    const own = row => who === "all" || this.people.get(row.entity)?.player !== false || q;
    const wide = this.all.filter(row => own(row) && says(row) && told(row) && (!weapon || row.weapon === weapon) && (!code || row.codes.includes(code)));
    this.shown = wide.filter(row => claims === "all" || code || SHOTS.has(row.kind));
    this.count.textContent = `${this.shown.length.toLocaleString("en")} of ${this.all.length.toLocaleString("en")}`;
    this.room.style.height = `${this.shown.length * HIGH}px`;
    this.draw();
    this.onFilter?.(wide);  // the time line has moves too
  }

  // The next or the one before in what is shown, from a ruling or a time on.
  beside(way, t) {
    const at = this.shown.findIndex(row => row.number === this.chosen);
    if (at >= 0) return this.shown[at + way];
    return way > 0 ? this.shown.find(row => row.at > t) : this.shown.findLast(row => row.at < t);
  }

  choose(number) {
    this.chosen = number;
    const at = this.shown.findIndex(row => row.number === number);
    if (at >= 0 && (at * HIGH < this.box.scrollTop || (at + 1) * HIGH > this.box.scrollTop + this.box.clientHeight)) this.box.scrollTop = at * HIGH - this.box.clientHeight / 2;
    this.draw();
  }

  draw() {
    const first = Math.max(0, Math.floor(this.box.scrollTop / HIGH) - 2), last = first + Math.ceil(this.box.clientHeight / HIGH) + 4;
    this.room.replaceChildren(...this.shown.slice(first, last).map((row, k) => {
      const line = element("div", `row ${kindOf(row)}${row.number === this.chosen ? " chosen" : ""}`);
      line.dataset.number = row.number;
      line.style.top = `${(first + k) * HIGH}px`;
      const what = row.victim ? `hit ${this.name(row.victim)}` : row.outcome === "rejected" || row.outcome === "repeated" ? row.outcome : row.kind === "shot" || row.kind === "melee" ? "miss" : row.kind;
      line.append(element("span", "at", clock(row.at)), element("b", this.people.get(row.entity)?.team ?? "", this.name(row.entity)), element("span", "what", what), element("span", "codes", row.codes.join(", ").replaceAll("_", " ")));
      line.title = `${clock(row.at)} ${this.name(row.entity)}, ${row.weapon.replaceAll("_", " ")}: ${what}${row.codes.length ? ` (${row.codes.join(", ")})` : ""}`;
      return line;
    }));
  }
}
