// The words beside the picture: what is seen, numbers to turn, and why a place looks as it does.

export const $ = (id) => document.getElementById(id);

function made(kind, text = "", more = {}) {
  const out = document.createElement(kind);
  out.textContent = text;
  return Object.assign(out, more);
}

export function chooseFrom(select, names, chosen) {
  const before = chosen ?? select.value;
  select.replaceChildren(...names.map((name) => made("option", name, { value: name })));
  if (names.includes(before)) select.value = before;
}

export function roleBoxes(field, roles, leftOut, changed) {
  const legend = field.querySelector("legend");
  field.replaceChildren(legend, ...roles.map((role, bit) => {
    const label = made("label"), box = made("input", "", { type: "checkbox", checked: !(leftOut & 1 << bit) });
    box.addEventListener("change", () => changed(bit, box.checked));
    label.append(box, ` ${role}`);
    return label;
  }));
}

// Which colour is which layer, from the top down.
export function keyOf(list, layers) {
  list.replaceChildren(...layers.toReversed().map(({ name, key }) => {
    const line = made("li"), patch = made("span");
    patch.style.background = `rgb(${key})`;
    line.append(patch, name);
    return line;
  }));
}

const shown = (value) => String(Math.round(value * 1e4) / 1e4);

// Groups of knobs, each a slider and a number; those that stand are kept, so that what is under the hand stays there.
export class Knobs {
  constructor(field, turned) { Object.assign(this, { field, turned, rows: new Map(), names: "" }); }

  show(knobs, all = false) {  // what is under the hand is left alone, but for what was refused
    const names = knobs.map((knob) => knob.key).join();
    if (names !== this.names) this.build(knobs);
    this.names = names;
    for (const knob of knobs) {
      const { slider, number } = this.rows.get(knob.key);
      if (all || document.activeElement !== slider) {
        slider.min = Math.min(knob.low, knob.value); slider.max = Math.max(knob.high, knob.value);
        slider.value = knob.value;
      }
      if (all || document.activeElement !== number) number.value = shown(knob.value);
    }
  }

  build(knobs) {
    const open = new Set([...this.field.querySelectorAll("details[open]")].map((each) => each.dataset.group)), groups = new Map();
    this.rows.clear();
    this.field.replaceChildren();
    for (const knob of knobs) {
      if (!groups.has(knob.group)) {
        const group = made("details", "", { open: open.has(knob.group) });
        group.dataset.group = knob.group;
        group.append(made("summary", knob.group));
        this.field.append(group);
        groups.set(knob.group, group);
      }
      const row = made("div", "", { className: "knob", title: `${knob.key}\n${knob.help}` });
      const step = knob.whole ? 1 : 10 ** Math.floor(Math.log10((knob.high - knob.low || 1) / 100));
      const named = `${knob.group}: ${knob.title}${knob.unit ? `, ${knob.unit}` : ""}`;
      const slider = made("input", "", { type: "range", min: knob.low, max: knob.high, step: knob.whole ? 1 : "any", value: knob.value, ariaLabel: named });
      const number = made("input", "", { type: "number", step: knob.whole ? 1 : step, value: shown(knob.value), ariaLabel: `${named}, as a number` });
      const turn = (value, moving) => this.turned(knob.key, knob.whole ? Math.round(value) : Number(Number(value).toPrecision(6)), moving);
      slider.addEventListener("input", () => { number.value = shown(slider.value); turn(slider.value, true); });
      slider.addEventListener("change", () => turn(slider.value, false));
      number.addEventListener("change", () => { if (number.value !== "") turn(number.value, false); });
      row.append(made("span", `${knob.title}${knob.unit ? ` (${knob.unit})` : ""}${knob.said ? "" : " ·"}`), number, slider);
      row.dataset.words = `${knob.group} ${knob.title} ${knob.key}`.toLowerCase();
      groups.get(knob.group).append(row);
      this.rows.set(knob.key, { slider, number });
    }
  }

  find(words) {
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    for (const group of this.field.querySelectorAll("details")) {
      let any = false;
      for (const row of group.querySelectorAll(".knob")) {
        row.hidden = !wanted.every((word) => row.dataset.words.includes(word));
        any ||= !row.hidden;
      }
      group.hidden = !any;
      if (wanted.length && any) group.open = true;
    }
  }
}

export function explained(there) {
  const out = document.createDocumentFragment(), table = made("table"), head = made("tr");
  for (const title of ["layer", "step", "answer", "so far", "weight"]) head.append(made("th", title, { scope: "col" }));
  table.append(head);
  const line = (...cells) => {
    const row = made("tr");
    cells.forEach((cell) => row.append(made("td", typeof cell === "number" ? cell.toFixed(3) : cell, { className: typeof cell === "number" ? "number" : "" })));
    table.append(row);
    return row;
  };
  for (const layer of there.layers) {
    line(layer.name, layer.steps.length ? "" : "no mask", "", "", layer.weight).style.fontWeight = "bold";
    for (const step of layer.steps) line("", `${step.how} ${step.what}`.trim(), step.answer, step.result, "");
    if (Math.abs(layer.before - layer.weight) > 5e-4) line("", "before daubs", "", layer.before, "");
    for (const turn of layer.turns) line("", `turn of ${turn.name}`, "", turn.weight, "");
  }
  const [x, y, z] = there.position;
  out.append(made("p", `x ${x.toFixed(2)} m, z ${z.toFixed(2)} m; ${y.toFixed(2)} m high; slope ${there.slope.toFixed(1)}°`), table);
  for (const daub of there.daubs) out.append(made("p", `daub ${daub.number} (${daub.what}) covers ${(100 * daub.covers).toFixed(0)} % here`));
  return out;
}
