// The ground as patches of its heightmap: fine near the eye, coarse far off.

import { plus } from "./matrices.js";

const QUADS = 32;  // along the side of a patch
const FINE = 4;  // times its size, the distance within which a patch is split

export class Ground {
  constructor() { this.heights = null; this.columns = this.rows = 0; this.size = [1, 1]; }

  set(heights, [columns, rows], size) {
    Object.assign(this, { heights, columns, rows, size, spans: [] });
    for (let step = 1; ; step *= 2) {  // lowest and highest of every patch of so many samples apart
      const across = Math.ceil((columns - 1) / (QUADS * step)), down = Math.ceil((rows - 1) / (QUADS * step)), span = new Float32Array(2 * across * down);
      for (let z = 0; z < down; ++z) for (let x = 0; x < across; ++x) {
        let low = Infinity, high = -Infinity;
        if (step === 1) {
          for (let row = z * QUADS; row <= Math.min(z * QUADS + QUADS, rows - 1); ++row)
            for (let at = row * columns + x * QUADS; at <= row * columns + Math.min(x * QUADS + QUADS, columns - 1); ++at) { const each = heights[at]; if (each < low) low = each; if (each > high) high = each; }
        } else {
          const finer = this.spans.at(-1);
          for (const dz of [0, 1]) for (const dx of [0, 1]) {
            const fx = 2 * x + dx, fz = 2 * z + dz;
            if (fx < finer.across && fz < finer.down) { low = Math.min(low, finer.span[2 * (fz * finer.across + fx)]); high = Math.max(high, finer.span[2 * (fz * finer.across + fx) + 1]); }
          }
        }
        span.set([low, high], 2 * (z * across + x));
      }
      this.spans.push({ across, down, span });
      if (QUADS * step >= Math.max(columns, rows) - 1) break;
    }
  }

  heightAt(x, z) {
    if (!this.heights) return undefined;
    const across = x / this.size[0] * (this.columns - 1), down = z / this.size[1] * (this.rows - 1);
    if (!(across >= 0 && down >= 0 && across <= this.columns - 1 && down <= this.rows - 1)) return undefined;
    const c = Math.min(Math.floor(across), this.columns - 2), r = Math.min(Math.floor(down), this.rows - 2), u = across - c, v = down - r;
    const at = (row, column) => this.heights[row * this.columns + column];
    return (at(r, c) * (1 - u) + at(r, c + 1) * u) * (1 - v) + (at(r + 1, c) * (1 - u) + at(r + 1, c + 1) * u) * v;
  }

  hit(from, way, furthest) {
    const step = Math.min(this.size[0] / this.columns, this.size[1] / this.rows) * 0.75;
    let before = 0;
    for (let far = 0; far < furthest; far += Math.max(step, far * 0.002)) {
      const at = plus(from, way, far), high = this.heightAt(at[0], at[2]);
      if (high !== undefined && at[1] < high) {
        let low = before, above = far;
        for (let turn = 0; turn < 24; ++turn) {
          const middle = (low + above) / 2, there = plus(from, way, middle), ground = this.heightAt(there[0], there[2]);
          if (ground !== undefined && there[1] < ground) above = middle; else low = middle;
        }
        return plus(from, way, above);
      }
      before = far;
    }
    return null;
  }

  // First sample east and south, samples apart, metres of skirt: for each patch that is drawn for an eye; of one fineness without.
  // `isSeen(low, high)` says whether a box may be.
  patches(eye, fine = 1, isSeen = () => true) {
    const most = Math.max(this.columns, this.rows) - 1, out = [];
    let whole = 1;
    while (whole * QUADS < most) whole *= 2;
    const metres = this.size[0] / (this.columns - 1), least = eye ? 1 : 2 ** Math.max(0, Math.ceil(Math.log2(most / 640)));
    const visit = (x, z, step) => {
      if (x >= this.columns - 1 || z >= this.rows - 1) return;
      const side = QUADS * step * metres, middle = [(x + QUADS * step / 2) * metres, (z + QUADS * step / 2) * this.size[1] / (this.rows - 1)];
      if (step > least) {
        const high = eye && (this.heightAt(...middle) ?? 0);
        const far = eye ? Math.max(0, Math.hypot(eye[0] - middle[0], eye[1] - high, eye[2] - middle[1]) - 0.7 * side) : 0;
        if (far < FINE * fine * side) {
          const half = QUADS * step / 2;
          for (const down of [0, half]) for (const right of [0, half]) visit(x + right, z + down, step / 2);
          return;
        }
      }
      const { across, span } = this.spans[Math.log2(step)], at = 2 * (z / (QUADS * step) * across + x / (QUADS * step)), deep = this.size[1] / (this.rows - 1);
      if (!isSeen([x * metres, span[at] - step * metres, z * deep], [(x + QUADS * step) * metres, span[at + 1], (z + QUADS * step) * deep])) return;
      const far = eye ? Math.hypot(eye[0] - (x + QUADS * step / 2) * metres, eye[2] - (z + QUADS * step / 2) * metres) : 0;
      out.push([far, x, z, step, Math.max(0.02, step * metres)]);
    };
    visit(0, 0, whole);
    out.sort((a, b) => a[0] - b[0]);  // from near to far, so that what is hidden is not worked out
    return new Float32Array(out.flatMap((each) => each.slice(1)));
  }
}

export function patchMesh() {
  const corners = [], triangles = [], across = QUADS + 1;
  for (let row = 0; row <= QUADS; ++row) for (let column = 0; column <= QUADS; ++column) corners.push(column, row, 0);
  const quad = (a, b, c, d) => triangles.push(a, c, b, b, c, d);
  for (let row = 0; row < QUADS; ++row)
    for (let column = 0; column < QUADS; ++column) { const a = row * across + column; quad(a, a + 1, a + across, a + across + 1); }
  for (let edge = 0; edge < 4; ++edge) {  // a skirt hangs from each
    let before = null;
    for (let along = 0; along <= QUADS; ++along) {
      const [column, row] = [[along, 0], [QUADS, along], [along, QUADS], [0, along]][edge], top = row * across + column, below = corners.length / 3;
      corners.push(column, row, 1);
      if (before) quad(before[0], top, before[1], below);
      before = [top, below];
    }
  }
  return { corners: new Float32Array(corners), triangles: new Uint16Array(triangles) };
}
