from .audit import SwatchAudit as SwatchAudit
from .audit import audit_swatch as audit_swatch
from .audit import audit_together as audit_together
