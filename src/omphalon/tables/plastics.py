"""Plastics as a hotend has to heat them: means from room to printing temperature.

Specific heats and heats of melting (of the share that is crystalline in a filament) are rounded
from the tables of Van Krevelen and te Nijenhuis, Properties of Polymers (4th ed. 2009), ch. 5.
"""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.tables.rows import rows_of, table_by


@dataclass(frozen=True, kw_only=True)
class Plastic:
    """A kind of plastic."""

    name: str
    density_g_cm3: float
    heat_j_gk: float
    melting_j_g: float
    doubt: float  # 95 % half width of all its heat, as a share: kinds, fillers, crystallinity

    def heat_j_mm3(self, rise_c: float) -> float:
        """What it takes to heat a cubic millimetre by so much, and to melt it."""
        return 1e-3 * self.density_g_cm3 * (self.heat_j_gk * rise_c + self.melting_j_g)


PLASTICS = table_by("name", *rows_of("plastics", Plastic))
