"""The tools of a printer by their number, and how each place names what a tool has for itself."""

from __future__ import annotations

from dataclasses import dataclass

MOST_TOOLS = 10  # numbered 0 to 9, as reports have room for
# settings that each tool has for itself
SETTINGS_OF_TOOL = ("hotend-gains", "steps-e", "flow", "advance")


@dataclass(frozen=True, order=True)
class Tool:
    """One of several tools. The first one, false, has the plain names everywhere."""

    number: int = 0

    def __bool__(self) -> bool:
        return self.number > 0

    def __str__(self) -> str:
        return f"{self.number}"

    @classmethod
    def numbered(cls, number: float) -> Tool:
        """The tool that a line names; numbers that no printer has, infinity among them, are held
        within two digits.
        """
        return cls(int(min(max(number, 0.0), 99.0)))

    @classmethod
    def in_key(cls, key: str) -> tuple[str, Tool]:
        """A key as `own` and `setting` write it, taken apart: the plain name, and the tool."""
        name, _, number = key.partition("@")
        return name, cls(int(number or 0))

    def own(self, name: str) -> str:
        """The key of a part or a setting that this tool has for itself: `nozzle@1`."""
        return f"{name}@{self}" if self else name

    def setting(self, key: str) -> str:
        """The key of a setting, which may be one that all tools share."""
        return self.own(key) if key in SETTINGS_OF_TOOL else key

    def fact(self, key: str) -> str:
        """The key of a fact that this tool has for itself: `tool.1.nozzle.width`."""
        return f"tool.{self.number}.{key}" if self else key

    def line(self, setting: str) -> str:
        """A dialect's name for the line of a setting: `tool-steps`."""
        return f"tool-{setting}" if self else setting

    @property
    def of(self) -> str:
        """` of tool 1`, behind what is its own."""
        return f" of tool {self}" if self else ""


FIRST = Tool()
