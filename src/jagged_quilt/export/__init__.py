"""Files for engines: weights as others read them, meshes."""

from jagged_quilt.foundation.window import window

__getattr__, __dir__, __all__ = window(__name__, __file__)
