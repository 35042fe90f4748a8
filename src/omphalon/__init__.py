"""Omphalon: turns small experiments on a 3D printer into settings, with intervals and reasons."""

from omphalon.base.errors import OmphalonError

__all__ = ["OmphalonError"]
__version__ = "0.2.0"
