"""How much of the reading of textures a limit saves, for those who look at figures."""

from jagged_quilt.blend.samples import samples_saved as samples_saved
