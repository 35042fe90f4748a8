"""An answer as a program or a notebook has it: one shape for all questions."""

from __future__ import annotations

import html
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from omphalon import __version__
from omphalon.answers.finding import Finding
from omphalon.answers.remarks import Remark
from omphalon.answers.settings import Setting
from omphalon.tables.units import digits

if TYPE_CHECKING:
    from matplotlib.figure import Figure


@dataclass(frozen=True, repr=False)
class Result:
    """What a command answers, from the same judgement; `finding` is the whole of it.

    The verdict `retest` is an answer too: it has no settings, and `because` and `next` say why and
    what would help.
    """

    finding: Finding

    @property
    def verdict(self) -> str:
        """change, keep or retest."""
        return self.finding.verdict

    @property
    def because(self) -> str:
        """The verdict's reason, in a sentence."""
        return self.finding.because

    @property
    def next(self) -> str:
        """What to do next."""
        return str(self.finding.next)

    @property
    def settings(self) -> tuple[Setting, ...]:
        """Each field of each setting: `value`, `half_width` of its 95 % interval (None: it has
        none), `unit`. Those of a bench; gains are for a power of 0 to 1.
        """
        return self.finding.settings

    @property
    def lines(self) -> tuple[str, ...]:
        """The lines to enter, of the shipped dialect."""
        return self.finding.lines

    @property
    def remarks(self) -> tuple[Remark, ...]:
        """What is odd: `code`, `message`, `remedy`."""
        return self.finding.warnings

    @property
    def evidence(self) -> dict[str, Any]:
        """What the answer stands on, in the words of docs/reference.md."""
        evidence: dict[str, Any] = self.document()["evidence"]
        return evidence

    @property
    def parts(self) -> tuple[Result, ...]:
        """The answers that this one holds together: a card's."""
        return tuple(Result(part) for part in self.finding.parts)

    def __getitem__(self, field: str) -> Setting:
        """The setting of a field, where one has it: `result["kp"]`.

        Raises KeyError where none has it, or several: of several axes, say.
        """
        found = [one for one in self.settings if one.field == field]
        if len(found) != 1:
            raise KeyError(f"{field}: {len(found)} settings have it")
        return found[0]

    def document(self) -> dict[str, Any]:
        """The JSON document that the command prints with --json."""
        return self.finding.document(__version__)

    def draw(self, figure: Figure) -> None:
        """Draw the answer into a figure of Matplotlib's, as the command does with --plot.

        Raises UsageError where it has nothing to draw.
        """
        from omphalon.report.figure import draw

        draw(self.finding, figure)

    def _rows(self) -> list[tuple[str, str, str, str]]:
        """Each setting in cells: of what, its value, its half width, its unit."""
        rows = []
        for one in self.settings:
            if isinstance(one.value, str):
                rows.append((f"{one.key} {one.field}", one.value, "", ""))
                continue
            half = "" if not one.half_width else f"± {digits(one.half_width, least=2)}"
            value = digits(one.value, one.half_width) if one.half_width else f"{one.value:.4g}"
            rows.append((f"{one.key} {one.field}", value, half, one.unit))
        return rows

    def __repr__(self) -> str:
        """A few lines: verdict and reason, settings, remarks."""
        lines = [f"{self.verdict}: {self.because}"]
        lines += ["  " + " ".join(filter(None, row)) for row in self._rows()]
        lines += [f"  {remark.code}: {remark.message}" for remark in self.remarks]
        return "\n".join(lines)

    def _repr_html_(self) -> str:
        """The same as a table, for a notebook."""
        cells = (
            "<tr>" + "".join(f"<td>{html.escape(cell)}</td>" for cell in row) + "</tr>"
            for row in self._rows()
        )
        odd = "".join(f"<li>{html.escape(remark.message)}</li>" for remark in self.remarks)
        head = f"<p><b>{self.verdict}</b>: {html.escape(self.because)}</p>"
        return f"{head}<table>{''.join(cells)}</table><ul>{odd}</ul>"
