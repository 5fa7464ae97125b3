// The camera under the hand: it turns about what it looks at, moves over the ground, and comes closer.

import { cross, inverse, lookingAt, minus, perspective, plus, times, unit } from "./matrices.js";

const STEEPEST = 89, NEAREST = 0.5;  // degrees; metres

export class Camera {
  constructor(canvas, ground, changed, clicked) {
    Object.assign(this, { canvas, ground, changed });
    this.target = [0, 0, 0];
    this.bearing = 0; this.height = 30; this.far = 10; this.angle = 40;
    this.listen(clicked);
  }

  stand({ position, target, angle }) {
    const way = minus(position, target);
    this.target = [...target]; this.far = Math.hypot(...way); this.angle = angle;
    this.bearing = Math.atan2(way[0], way[2]) * 180 / Math.PI;
    this.height = Math.asin(way[1] / this.far) * 180 / Math.PI;
  }

  get stands() { return { position: this.position, target: this.target, angle: this.angle }; }

  get position() {
    const turn = this.bearing * Math.PI / 180, rise = this.height * Math.PI / 180;
    return plus(this.target, [Math.sin(turn) * Math.cos(rise), Math.sin(rise), Math.cos(turn) * Math.cos(rise)], this.far);
  }

  toClip(aspect, extent) {
    const near = Math.max(0.05, this.far * 0.01);
    return times(perspective(this.angle, aspect, near, near + this.far + 4 * extent), lookingAt(this.position, this.target));
  }

  fromClip(aspect) {  // of directions: as from a camera at the origin
    const ahead = minus(this.target, this.position);
    return inverse(times(perspective(this.angle, aspect, 0.1, 10), lookingAt([0, 0, 0], ahead)));
  }

  ray(x, y, aspect) {  // x and y from -1 to 1
    const ahead = unit(minus(this.target, this.position)), right = unit(cross(ahead, [0, 1, 0])), up = cross(right, ahead);
    const half = Math.tan(this.angle * Math.PI / 360);
    return unit(plus(plus(ahead, right, x * half * aspect), up, y * half));
  }

  // Where a place is in a picture of so many pixels; null behind the eye.
  onScreen(place, width, height) {
    const m = this.toClip(width / height, 1), at = [0, 1, 3].map((row) => m[row] * place[0] + m[4 + row] * place[1] + m[8 + row] * place[2] + m[12 + row]);
    return at[2] > 0 ? [(0.5 + 0.5 * at[0] / at[2]) * width, (0.5 - 0.5 * at[1] / at[2]) * height] : null;
  }

  turn(right, up) {
    this.bearing -= right; this.height = Math.min(STEEPEST, Math.max(-STEEPEST, this.height + up));
    this.changed();
  }

  move(right, ahead) {  // metres
    const turn = this.bearing * Math.PI / 180;
    this.target = plus(plus(this.target, [Math.cos(turn), 0, -Math.sin(turn)], right), [-Math.sin(turn), 0, -Math.cos(turn)], ahead);
    const high = this.ground.heightAt(this.target[0], this.target[2]);
    if (high !== undefined) this.target[1] = high;
    this.changed();
  }

  closer(part) { this.far = Math.max(NEAREST, this.far * part); this.changed(); }

  listen(clicked) {
    const canvas = this.canvas, down = new Map();
    let moved = 0;
    canvas.addEventListener("pointerdown", (event) => {
      canvas.setPointerCapture(event.pointerId);
      if (down.size === 0 && this.brush?.begin(event)) return;
      if (down.size === 0) moved = 0;
      down.set(event.pointerId, [event.clientX, event.clientY]);
    });
    canvas.addEventListener("pointermove", (event) => {
      if (this.brush?.move(event)) return;
      const before = down.get(event.pointerId);
      if (!before) return;
      const now = [event.clientX, event.clientY], by = [now[0] - before[0], now[1] - before[1]];
      moved += Math.abs(by[0]) + Math.abs(by[1]);
      const metres = 2 * this.far * Math.tan(this.angle * Math.PI / 360) / canvas.clientHeight;
      if (down.size === 2) {
        const other = [...down].find(([id]) => id !== event.pointerId)[1];
        const span = (at) => Math.hypot(at[0] - other[0], at[1] - other[1]) || 1;
        this.closer(span(before) / span(now));
        this.move(-by[0] * metres / 2, by[1] * metres / 2);
      } else if (event.shiftKey || event.buttons & (this.brush?.isOn ? 4 : 6)) this.move(-by[0] * metres, by[1] * metres);
      else this.turn(by[0] * 0.3, by[1] * 0.3);
      down.set(event.pointerId, now);
    });
    const up = (event) => {
      if (this.brush?.end()) return;
      if (down.delete(event.pointerId) && event.type === "pointerup" && moved < 4) clicked(event.clientX, event.clientY);
    };
    canvas.addEventListener("pointerup", up);
    canvas.addEventListener("pointercancel", up);
    canvas.addEventListener("contextmenu", (event) => event.preventDefault());
    canvas.addEventListener("wheel", (event) => { event.preventDefault(); this.closer(Math.exp(event.deltaY * 0.001)); }, { passive: false });
    canvas.addEventListener("keydown", (event) => {
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      const step = this.far * 0.05;
      const keys = {
        ArrowLeft: () => event.shiftKey ? this.turn(-4, 0) : this.move(-step, 0), ArrowRight: () => event.shiftKey ? this.turn(4, 0) : this.move(step, 0),
        ArrowUp: () => event.shiftKey ? this.turn(0, 3) : this.move(0, step), ArrowDown: () => event.shiftKey ? this.turn(0, -3) : this.move(0, -step),
        "+": () => this.closer(0.9), "=": () => this.closer(0.9), "-": () => this.closer(1 / 0.9),
        Enter: () => {
          if (this.brush?.isOn) { this.brush.dab(); return; } const box = canvas.getBoundingClientRect(); clicked(box.left + box.width / 2, box.top + box.height / 2); },
      };
      if (keys[event.key]) { event.preventDefault(); keys[event.key](); }
    });
  }
}
