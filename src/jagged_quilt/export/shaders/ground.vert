// Places a vertex, and hands on where it is.

uniform mat4 to_clip;  // the camera: world to clip space

layout(location = 0) in vec3 position;  // metres
layout(location = 1) in vec3 normal;

out vec3 place;
out vec3 facing;

void main() {
    place = position;
    facing = normal;
    gl_Position = to_clip * vec4(position, 1.0);
}
