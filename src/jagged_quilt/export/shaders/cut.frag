
// ---- What is there of a mesh that light may pass through: for shadows

uniform float cut_out;  // the opacity below which nothing is there
in vec2 lies_at;
{{carried}}
{{point}}
void main() {
    Point point = point_of(lies_at, normalize(facing));
    float weight[{{weighed}}];
    //?films
    float film[FILMS];
    //.
{{taken}}
    if (blend(point, weight{{film_argument}}).opacity < cut_out) discard;
    seen = vec4(1.0);
}
