"""What a quilt file may say of a heightmap, apart from the ground that is made of it."""

from __future__ import annotations

from jagged_quilt.foundation.choices import Choice


class Between(Choice):
    """What lies between the samples of a heightmap."""

    BILINEAR = "bilinear"
    CUBIC = "cubic"
