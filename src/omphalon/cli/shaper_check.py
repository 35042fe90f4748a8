"""omphalon shaper check: a setting on a fresh log, a sensor at rest, bands that eyes have read."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError
from omphalon.cli.common import Answer, Leaving, answering, by_hand, choice, filled, number
from omphalon.cli.shaper_common import SENSOR, bands_of, limits, limits_of, logging, wanted_of
from omphalon.tables.constants import ASSUMED_DAMPING, SHAPER_NAMES

if TYPE_CHECKING:
    from omphalon.answers.finding import Finding
    from omphalon.studies.shaper.question import ShaperInUse


@click.command("check", short_help="Does a setting still fit? One log, or before and after.")
@click.argument("logs", nargs=-1, metavar="[LOG] [LATER]")
@click.option("--axis", type=choice("x", "y"), help="Which axis.")
@click.option("--sensor", type=SENSOR, help="Sensor's axis that lay along it.  [from the log]")
@click.option("--shaper", type=choice(*SHAPER_NAMES), help="Shaper in force.")
@number("--frequency", "frequency", "Its frequency.")
@number("--damping", "damping", "Its damping.", default=ASSUMED_DAMPING)
@number("--acceleration", "acceleration", "Acceleration in use.")
@number(
    "--seen",
    "acceleration",
    "Highest band of a ringing print without ripple; once a looker, 0: none is.",
    least=0,
    reading=True,
    multiple=True,
)
@click.option("--bands", metavar="FROM:TO:STEP", help="The bands of that print, mm/s².")
@click.option(
    "--print",
    "printed",
    metavar="FILE",
    help="The G-code of a card, where a LOG is its picture.  [the bench's, by the card's strip]",
)
@logging("rest")
@limits
@answering(dialect=False)
def check(how: Leaving, logs: tuple[str, ...], **given: Any) -> Answer:
    """Judge whether a setting still fits a fresh log; with two logs, before and after a repair.

    A LOG may be the picture of a test card too, with --print. With --kind rest, whether a sensor
    that nobody moves is fit for a sweep: no setting is needed. With --seen, whether what eyes see
    on a ringing print of bands agrees with what is in use.

    \b
    Example:
      omphalon shaper check sweep-y.csv.gz --axis y --shaper ei --frequency 31 --acceleration 900
      omphalon shaper check sensor-rest.csv.gz --kind rest
      omphalon shaper check --seen 700 --seen 800 --bands 300:1500:100 --axis y --acceleration 900
    """
    how.check(*logs, given["printed"])
    if len(logs) > 2:
        raise UsageError(f"{len(logs)} logs", "give one log, or two: before and after")
    if len(set(logs)) < len(logs):
        raise UsageError("before and after are one log", "give two, or one")
    if given["bands"] is not None and not given["seen_mm_s2"]:
        raise UsageError("--bands without --seen", "give both")
    if given["kind"] == "rest":
        answer = _at_rest(logs, given)
    elif given["seen_mm_s2"]:
        answer = _seen(logs, given)
    else:
        answer = _on_logs(logs, given)
    return answer


def _needed(given: dict[str, Any], *names: str) -> None:
    """Refuse what was left out, in words."""
    params = click.get_current_context().command.params
    lacking = [p.opts[0] for p in params if p.name in names and given[p.name] is None]
    if lacking:
        raise UsageError(f"no {', '.join(lacking)}", "say which axis and what is in force")


def _at_rest(logs: tuple[str, ...], given: dict[str, Any]) -> Finding:
    from omphalon.readers.acceleration import read_motion
    from omphalon.studies.shaper.check_words import sensor_answer

    if len(logs) != 1:
        raise UsageError(f"--kind rest with {len(logs)} logs", "give one log of a sensor at rest")
    if given["seen_mm_s2"]:
        raise UsageError("--kind rest and --seen", "give one of the two")
    if by_hand("axis", "sensor", "shaper", "frequency_hz", "acceleration_mm_s2"):
        raise UsageError("--kind rest and a setting", "a sensor at rest needs none; leave it out")
    log = read_motion(logs[0], wanted_of(given))
    return sensor_answer(log)


def _seen(logs: tuple[str, ...], given: dict[str, Any]) -> Finding:
    from omphalon.readers.acceleration import read_motion
    from omphalon.studies.shaper.bands import BandsQuestion
    from omphalon.studies.shaper.check_words import bands_answer

    if len(logs) > 1:
        raise UsageError(f"--seen with {len(logs)} logs", "give one log, or none")
    if given["bands"] is None:
        raise UsageError("--seen without --bands", "give the bands that were printed")
    _needed(given, "axis", "acceleration_mm_s2")
    question = filled(
        BandsQuestion,
        given,
        seen_mm_s2=tuple(one.value for one in given["seen_mm_s2"]),
        bands=bands_of(given["bands"]),
        setting=_in_force(given),
        log=read_motion(logs[0], wanted_of(given)) if logs else None,
        limits=limits_of(given),
    )
    return bands_answer(question)


def _on_logs(logs: tuple[str, ...], given: dict[str, Any]) -> Finding:
    from omphalon.cli.card import cards_of
    from omphalon.readers.acceleration import read_motion
    from omphalon.readers.picture import is_picture, read_picture
    from omphalon.studies.card.modes import axis_on_card
    from omphalon.studies.shaper.check_words import shaper_check_answer
    from omphalon.studies.shaper.question import ShaperCheckQuestion

    if not logs:
        raise UsageError("no log", "give a fresh log, or --seen with --bands")
    _needed(given, "axis", "shaper", "frequency_hz", "acceleration_mm_s2")
    setting = _in_force(given)
    assert setting is not None
    wanted, printed, axis = wanted_of(given), given["printed"], given["axis"]
    pictured = any(is_picture(path) for path in logs)
    if printed is not None and not pictured:
        raise UsageError("--print without a picture", "give the card's picture, or leave it out")
    cards = cards_of(printed) if pictured else []
    read = (read_picture(p) if is_picture(p) else read_motion(p, wanted) for p in logs)
    question = filled(
        ShaperCheckQuestion,
        given,
        logs=tuple(read),
        setting=setting,
        limits=limits_of(given),
        read_card=lambda picture: axis_on_card(picture, cards, printed, axis),
    )
    return shaper_check_answer(question)


def _in_force(given: dict[str, Any]) -> ShaperInUse | None:
    """The setting, where it was named."""
    from omphalon.studies.shaper.question import ShaperInUse

    if given["shaper"] is None or given["frequency_hz"] is None:
        return None
    return filled(ShaperInUse, given)
