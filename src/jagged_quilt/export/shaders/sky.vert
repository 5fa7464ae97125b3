// A triangle over the whole picture, behind everything.

uniform mat4 from_clip;  // the camera: clip space to directions in the world

out vec3 way;

void main() {
    vec2 at = vec2(gl_VertexID == 1 ? 3.0 : -1.0, gl_VertexID == 2 ? 3.0 : -1.0);
    vec4 far = from_clip * vec4(at, 1.0, 1.0), near = from_clip * vec4(at, -1.0, 1.0);
    way = far.xyz / far.w - near.xyz / near.w;
    gl_Position = vec4(at, 1.0, 1.0);
}
