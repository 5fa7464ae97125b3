// Parts of meshes: what their vertices carry, as the programs read it, and what a ray meets of them.

import { cross, dot, minus, plus } from "./matrices.js";

const FLOATS = 8;  // a vertex: position, normal, uv

// Position, normal and uv, then weights and films, four in each attribute.
export function drawable(gl, fours, vertices, triangles, carried) {
  const own = gl.createVertexArray(), buffers = [];
  gl.bindVertexArray(own);
  const filled = (target, bytes) => { const buffer = gl.createBuffer(); buffers.push(buffer); gl.bindBuffer(target, buffer); gl.bufferData(target, bytes, gl.STATIC_DRAW); };
  filled(gl.ARRAY_BUFFER, vertices);
  for (const [at, size, from] of [[0, 3, 0], [1, 3, 12], [2, 2, 24]]) { gl.enableVertexAttribArray(at); gl.vertexAttribPointer(at, size, gl.FLOAT, false, 4 * FLOATS, from); }
  filled(gl.ARRAY_BUFFER, carried);
  for (let at = 0; at < fours; ++at) { gl.enableVertexAttribArray(3 + at); gl.vertexAttribPointer(3 + at, 4, gl.UNSIGNED_BYTE, true, 4 * fours, 4 * at); }
  filled(gl.ELEMENT_ARRAY_BUFFER, triangles);
  gl.bindVertexArray(null);
  return { own, buffers, count: triangles.byteLength / 4, release() { gl.deleteVertexArray(own); buffers.forEach((buffer) => gl.deleteBuffer(buffer)); } };
}

// What rays are asked of: corners in the world, triangle after triangle, in boxes of some.
export class Shape {
  constructor(vertices, triangles, some = 64) {
    const floats = new Float32Array(vertices), corners = new Uint32Array(triangles);
    this.corners = new Float32Array(3 * corners.length);
    for (let at = 0; at < corners.length; ++at) for (let k = 0; k < 3; ++k) this.corners[3 * at + k] = floats[FLOATS * corners[at] + k];
    this.some = some; this.boxes = [];
    for (let from = 0; from < this.corners.length; from += 9 * some) {
      const low = [Infinity, Infinity, Infinity], high = [-Infinity, -Infinity, -Infinity], to = Math.min(from + 9 * some, this.corners.length);
      for (let at = from; at < to; ++at) { const k = at % 3; low[k] = Math.min(low[k], this.corners[at]); high[k] = Math.max(high[k], this.corners[at]); }
      this.boxes.push({ from, to, low, high });
    }
    this.low = [0, 1, 2].map((k) => Math.min(...this.boxes.map((box) => box.low[k])));
    this.high = [0, 1, 2].map((k) => Math.max(...this.boxes.map((box) => box.high[k])));
  }

  // How far along a ray its nearest triangle is; Infinity where it meets none (Moller and Trumbore 1997).
  hit(from, way) {
    if (!meets(this, from, way)) return Infinity;
    let nearest = Infinity;
    const at = (i) => [this.corners[i], this.corners[i + 1], this.corners[i + 2]];
    for (const box of this.boxes) {
      if (!meets(box, from, way)) continue;
      for (let i = box.from; i < box.to; i += 9) {
        const a = at(i), ab = minus(at(i + 3), a), ac = minus(at(i + 6), a), p = cross(way, ac), whole = dot(ab, p);
        if (Math.abs(whole) < 1e-12) continue;
        const t = minus(from, a), u = dot(t, p) / whole, q = cross(t, ab), v = dot(way, q) / whole;
        if (u < 0 || v < 0 || u + v > 1) continue;
        const far = dot(ac, q) / whole;
        if (far > 1e-4 && far < nearest) nearest = far;
      }
    }
    return nearest;
  }
}

function meets({ low, high }, from, way) {
  let first = 0, last = Infinity;
  for (let k = 0; k < 3; ++k) {
    if (Math.abs(way[k]) < 1e-12) { if (from[k] < low[k] || from[k] > high[k]) return false; continue; }
    const one = (low[k] - from[k]) / way[k], other = (high[k] - from[k]) / way[k];
    first = Math.max(first, Math.min(one, other)); last = Math.min(last, Math.max(one, other));
  }
  return first <= last;
}

// What a ray meets first of the ground and of all shapes: how far, where, and which mesh, or null for the ground.
export function hitOf(ground, pieces, from, way, furthest) {
  const there = ground.hit(from, way, furthest);
  let far = there ? Math.hypot(...minus(there, from)) : furthest, mesh = null;
  for (const piece of pieces) {
    const at = piece.shape.hit(from, way);
    if (at < far) { far = at; mesh = piece.mesh; }
  }
  return mesh !== null ? { at: plus(from, way, far), mesh } : there ? { at: there, mesh: null } : null;
}
