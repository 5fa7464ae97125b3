// The brush: a ring that lies on what is under the hand, and strokes that are told to the server as daubs.

import { $ } from "./panels.js";
import { plus } from "./matrices.js";

const AROUND = 48;  // points of the ring
const FINE = 0.2;  // of the radius: how far the hand moves until the path has another point
const KEPT = "strokes";

export class Brush {
  // hit(x, y) tells where a place of the window is on a surface, onScreen(place) the other way; send(body) tells the server.
  constructor(canvas, { hit, onScreen, heightAt, send, complain, say }) {
    Object.assign(this, { canvas, hit, onScreen, heightAt, send, complain, say });
    this.path = null; this.at = null; this.isFresh = false; this.busy = false;
    this.finished = this.stored();
    this.layers = []; this.channels = [];
    this.listen();
  }

  get isOn() { return $("painting").open && !$("painting").hidden; }
  number(name) { return Number($(`brush-${name}`).value); }

  // What can be painted.
  offer({ layers, of_meshes, channels }) {
    const names = [...layers.toReversed().map((name) => [`layer ${name}`, name]), ...of_meshes.map((name) => [`layer ${name}`, `${name} (on meshes)`]), ...channels.map((name) => [`channel ${name}`, `channel ${name}`]), ["smooth", "smooth all layers"], ["before", "go back to before"]];
    const select = $("brush-what"), before = select.value;
    if (names.map((each) => each[0]).join() === [...select.options].map((each) => each.value).join()) return;
    select.replaceChildren(...names.map(([value, textContent]) => Object.assign(document.createElement("option"), { value, textContent })));
    if (names.some(([value]) => value === before)) select.value = before;
  }

  daub(path) {
    const what = $("brush-what").value, erases = $("brush-erase").checked, [kind, name] = [what.split(" ")[0], what.slice(what.indexOf(" ") + 1)];
    const inSpace = path.some((point) => point.mesh), round = (each) => Math.round(each * 1000) / 1000;
    const out = { path: path.map(({ at }) => (inSpace ? at : [at[0], at[2]]).map(round)), radius: this.number("radius") };
    if (kind === "layer") out.layer = name; else if (kind === "channel") out.channel = name;
    if (kind === "smooth") out.do = "smooth"; else if (kind === "before" || erases) out.do = "erase";
    if (this.number("hardness") !== 0.5) out.falloff = round(1 - this.number("hardness"));
    if (this.number("strength") !== 1) out.strength = this.number("strength");
    if (this.number("ceiling") !== 1 && !out.do) out.ceiling = this.number("ceiling");
    if (this.number("breakup") > 0) out.breakup = { size: this.number("breakup") };
    return out;
  }

  // ---- A stroke, from the hand: each answers whether it was meant for the brush.
  begin(event) {
    if (!this.isOn || event.button !== 0 || event.shiftKey) return false;
    const there = this.hit(event.clientX, event.clientY);
    if (!there) return false;
    this.path = [there]; this.isFresh = true;
    this.pump();
    return true;
  }

  move(event) {
    this.at = this.isOn ? this.hit(event.clientX, event.clientY) : null;
    this.drawRing();
    if (!this.path) return false;
    const last = this.path.at(-1).at;
    if (this.at && Math.hypot(...this.at.at.map((each, k) => each - last[k])) > FINE * this.number("radius")) { this.path.push(this.at); this.isFresh = true; this.pump(); }
    return true;
  }

  end() {
    if (!this.path) return false;
    this.finish(this.path);
    this.path = null;
    return true;
  }

  dab() {  // by the keyboard, in the middle of the picture
    const box = this.canvas.getBoundingClientRect(), there = this.hit(box.left + box.width / 2, box.top + box.height / 2);
    if (there) this.finish([there]);
  }

  finish(path) {
    this.finished.push({ name: crypto.randomUUID(), daub: this.daub(path) });
    this.store();
    this.pump();
  }

  // ---- What waits is sent, one after the other: strokes that are finished, then what is being drawn as it is now.
  async pump() {
    if (this.busy) return;
    this.busy = true;
    while (this.finished.length || (this.path && this.isFresh)) {
      const stroke = this.finished[0] ?? { daub: this.daub(this.path), moving: true };
      if (stroke.moving) this.isFresh = false;
      try { await this.send(stroke); this.complain(""); } catch (error) {
        if (error instanceof TypeError) {  // no answer: it is kept, and sent again
          this.say(`${this.finished.length} ${this.finished.length === 1 ? "stroke waits" : "strokes wait"} for the server`);
          await new Promise((wait) => setTimeout(wait, 1500));
          continue;
        }
        this.complain(error);
        if (stroke.moving) { this.path = null; }
      }
      if (!stroke.moving) { this.finished.shift(); this.store(); }
    }
    this.busy = false;
  }

  store() { try { sessionStorage.setItem(KEPT, JSON.stringify(this.finished)); } catch { /* then they last as long as the page */ } }
  stored() { try { return JSON.parse(sessionStorage.getItem(KEPT) ?? "[]"); } catch { return []; } }

  // ---- The ring
  drawRing() {
    const ring = $("ring"), there = this.at;
    ring.toggleAttribute("hidden", !there || !this.isOn);
    if (!there || !this.isOn) return;
    const radius = this.number("radius"), points = [];
    for (let n = 0; n < AROUND; ++n) {
      const turn = n / AROUND * 2 * Math.PI, place = plus(there.at, [Math.cos(turn), 0, Math.sin(turn)], radius);
      if (!there.mesh) place[1] = this.heightAt(place[0], place[2]) ?? place[1];
      const at = this.onScreen(place);
      if (at) points.push(at.map((each) => each.toFixed(1)).join());
    }
    $("ring-line").setAttribute("points", points.join(" "));
  }

  wider(by) {
    const field = $("brush-radius");
    field.value = Math.max(0.01, Number((this.number("radius") * by).toPrecision(2)));
    this.drawRing();
  }

  listen() {
    $("painting").addEventListener("toggle", () => { this.canvas.style.cursor = this.isOn ? "crosshair" : ""; this.drawRing(); });
    this.canvas.addEventListener("pointerleave", () => { this.at = null; this.drawRing(); });
    window.addEventListener("beforeunload", (event) => { if (this.finished.length) event.preventDefault(); });
    const erasable = () => { $("brush-erase").disabled = /^(smooth|before)/.test($("brush-what").value); };
    $("brush-what").addEventListener("change", erasable);
    if (this.finished.length) this.pump();
  }
}
