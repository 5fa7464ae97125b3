// Vectors of three and matrices of four by four, column after column as WebGL reads them.

export const minus = (a, b) => [a[0] - b[0], a[1] - b[1], a[2] - b[2]];
export const plus = (a, b, times = 1) => [a[0] + b[0] * times, a[1] + b[1] * times, a[2] + b[2] * times];
export const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
export const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
export const unit = (a) => { const far = Math.hypot(...a) || 1; return [a[0] / far, a[1] / far, a[2] / far]; };

export function times(a, b) {
  const out = new Float64Array(16);
  for (let column = 0; column < 4; ++column)
    for (let row = 0; row < 4; ++row)
      for (let k = 0; k < 4; ++k) out[4 * column + row] += a[4 * k + row] * b[4 * column + k];
  return out;
}

export function lookingAt(eye, target, up = [0, 1, 0]) {
  const back = unit(minus(eye, target)), right = unit(cross(up, back)), above = cross(back, right);
  return new Float64Array([
    right[0], above[0], back[0], 0, right[1], above[1], back[1], 0, right[2], above[2], back[2], 0,
    -dot(right, eye), -dot(above, eye), -dot(back, eye), 1]);
}

export function perspective(degrees, aspect, near, far) {
  const half = 1 / Math.tan(degrees * Math.PI / 360);
  return new Float64Array([half / aspect, 0, 0, 0, 0, half, 0, 0, 0, 0, (far + near) / (near - far), -1, 0, 0, 2 * far * near / (near - far), 0]);
}

export function inBox(low, high) {  // without perspective: a box of view space to clip space
  const size = minus(high, low);
  return new Float64Array([
    2 / size[0], 0, 0, 0, 0, 2 / size[1], 0, 0, 0, 0, -2 / size[2], 0,
    -(high[0] + low[0]) / size[0], -(high[1] + low[1]) / size[1], (high[2] + low[2]) / size[2], 1]);
}

export function inverse(m) {  // by Gauss and Jordan
  const rows = [0, 1, 2, 3].map((row) => [0, 1, 2, 3].map((column) => m[4 * column + row]).concat([0, 1, 2, 3].map((column) => +(column === row))));
  for (let column = 0; column < 4; ++column) {
    let best = column;
    for (let row = column + 1; row < 4; ++row) if (Math.abs(rows[row][column]) > Math.abs(rows[best][column])) best = row;
    [rows[column], rows[best]] = [rows[best], rows[column]];
    const by = rows[column][column];
    rows[column] = rows[column].map((value) => value / by);
    for (let row = 0; row < 4; ++row)
      if (row !== column) { const part = rows[row][column]; rows[row] = rows[row].map((value, k) => value - part * rows[column][k]); }
  }
  const out = new Float64Array(16);
  for (let row = 0; row < 4; ++row) for (let column = 0; column < 4; ++column) out[4 * column + row] = rows[row][4 + column];
  return out;
}

// Whether a box may lie within what a matrix takes to clip space, between two heights of that: not if all its corners lie beyond one side.
export function sees(m, [low, high], bottom = -1, top = 1) {
  const beyond = [0, 0, 0, 0, 0];
  for (const x of [low[0], high[0]]) for (const y of [low[1], high[1]]) for (const z of [low[2], high[2]]) {
    const [a, b, , w] = [0, 1, 2, 3].map((row) => m[row] * x + m[4 + row] * y + m[8 + row] * z + m[12 + row]);
    beyond[0] += a < -w; beyond[1] += a > w; beyond[2] += b < bottom * w; beyond[3] += b > top * w; beyond[4] += w <= 0;
  }
  return !beyond.includes(8);
}
