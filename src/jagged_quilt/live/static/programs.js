// Programs, and the textures and blocks that they read, each under the stamp of what it holds.

export function compiled(gl, [vertex, fragment], blocks = {}) {
  const program = gl.createProgram();
  for (const [kind, source] of [[gl.VERTEX_SHADER, vertex], [gl.FRAGMENT_SHADER, fragment]]) {
    const shader = gl.createShader(kind);
    gl.shaderSource(shader, source);
    gl.compileShader(shader);
    gl.attachShader(program, shader);
    gl.deleteShader(shader);
  }
  gl.linkProgram(program);
  if (!gl.getProgramParameter(program, gl.LINK_STATUS)) {
    const why = gl.getAttachedShaders(program).map((shader) => gl.getShaderInfoLog(shader)).join("\n");
    throw new Error(`a program does not compile here: ${why || gl.getProgramInfoLog(program)}`);
  }
  for (const [name, at] of Object.entries(blocks)) {
    const index = gl.getUniformBlockIndex(program, name);
    if (index !== gl.INVALID_INDEX) gl.uniformBlockBinding(program, index, at);
  }
  const places = new Map();
  for (let index = 0; index < gl.getProgramParameter(program, gl.ACTIVE_UNIFORMS); ++index) {
    const name = gl.getActiveUniform(program, index).name;
    places.set(name.replace("[0]", ""), gl.getUniformLocation(program, name));
  }
  return { program, at: (name) => places.get(name) ?? null };
}

// How the texels of each kind of data are stored: internal format, format, type, whether they are filtered, and how they are read.
const FORMS = {
  heights: (gl) => [gl.R32F, gl.RED, gl.FLOAT, false, Float32Array],
  normals: (gl) => [gl.RGBA16F, gl.RGBA, gl.HALF_FLOAT, true, Uint16Array],
  open_sky: (gl) => [gl.R8, gl.RED, gl.UNSIGNED_BYTE, true, Uint8Array],
  splat: (gl) => [gl.RGBA8, gl.RGBA, gl.UNSIGNED_BYTE, true, Uint8Array],
  film: (gl) => [gl.R8, gl.RED, gl.UNSIGNED_BYTE, true, Uint8Array],
  thrown_back: (gl) => [gl.RGB32F, gl.RGB, gl.FLOAT, false, Float32Array],
  sky_light: (gl) => [gl.RGB32F, gl.RGB, gl.FLOAT, false, Float32Array],
};

export function flat(gl, kind, [width, height], bytes) {
  const [inside, format, type, filtered, Kind] = FORMS[kind](gl), texture = gl.createTexture();
  gl.bindTexture(gl.TEXTURE_2D, texture);
  gl.pixelStorei(gl.UNPACK_ALIGNMENT, 1);
  gl.texImage2D(gl.TEXTURE_2D, 0, inside, width, height, 0, format, type, new Kind(bytes));
  const filter = filtered ? gl.LINEAR : gl.NEAREST;
  for (const which of [gl.TEXTURE_MIN_FILTER, gl.TEXTURE_MAG_FILTER]) gl.texParameteri(gl.TEXTURE_2D, which, filter);
  for (const which of [gl.TEXTURE_WRAP_S, gl.TEXTURE_WRAP_T]) gl.texParameteri(gl.TEXTURE_2D, which, gl.CLAMP_TO_EDGE);
  return texture;
}

// Some rows and columns of a sheet of weights.
export function fillPart(gl, texture, { size: [width, height], at: [left, top] }, bytes) {
  gl.bindTexture(gl.TEXTURE_2D, texture);
  gl.pixelStorei(gl.UNPACK_ALIGNMENT, 1);
  gl.texSubImage2D(gl.TEXTURE_2D, 0, left, top, width, height, gl.RGBA, gl.UNSIGNED_BYTE, new Uint8Array(bytes));
}

export function emptyArray(gl, levels, { size: [side, , slices], srgb, deep }) {
  const texture = gl.createTexture(), kind = gl.TEXTURE_2D_ARRAY, wide = gl.getExtension("EXT_texture_filter_anisotropic");
  gl.bindTexture(kind, texture);
  gl.texStorage3D(kind, levels, deep ? gl.RGBA16F : srgb ? gl.SRGB8_ALPHA8 : gl.RGBA8, side, side, slices);
  gl.texParameteri(kind, gl.TEXTURE_MIN_FILTER, gl.LINEAR_MIPMAP_LINEAR);
  gl.texParameteri(kind, gl.TEXTURE_MAG_FILTER, gl.LINEAR);
  for (const which of [gl.TEXTURE_WRAP_S, gl.TEXTURE_WRAP_T]) gl.texParameteri(kind, which, gl.REPEAT);
  if (wide) gl.texParameterf(kind, wide.TEXTURE_MAX_ANISOTROPY_EXT, Math.min(16, gl.getParameter(wide.MAX_TEXTURE_MAX_ANISOTROPY_EXT)));
  return texture;
}

export function fillLevel(gl, texture, level, { size: [side, , slices], deep }, bytes) {
  gl.bindTexture(gl.TEXTURE_2D_ARRAY, texture);
  gl.texSubImage3D(gl.TEXTURE_2D_ARRAY, level, 0, 0, 0, side, side, slices, gl.RGBA, deep ? gl.HALF_FLOAT : gl.UNSIGNED_BYTE, deep ? new Uint16Array(bytes) : new Uint8Array(bytes));
}

// Finer levels than this are not here yet, and are not read.
export function readFrom(gl, texture, level) {
  gl.bindTexture(gl.TEXTURE_2D_ARRAY, texture);
  gl.texParameterf(gl.TEXTURE_2D_ARRAY, gl.TEXTURE_MIN_LOD, level);
}

export function block(gl, bytes) {
  const buffer = gl.createBuffer();
  gl.bindBuffer(gl.UNIFORM_BUFFER, buffer);
  gl.bufferData(gl.UNIFORM_BUFFER, bytes, gl.STATIC_DRAW);
  return Object.assign(buffer, { bytes });
}
