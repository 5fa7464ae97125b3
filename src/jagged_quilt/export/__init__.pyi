from .meshes import terrain_mesh as terrain_mesh
from .meshes import write_mesh as write_mesh
from .shader import blend_shader as blend_shader
from .shader import write_shader as write_shader
from .splat_sheets import write_masks as write_masks
from .splat_sheets import write_pairs as write_pairs
from .splat_sheets import write_splat as write_splat
