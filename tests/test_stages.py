"""What a long piece of work says it is at."""

import shutil

import pytest

from conftest import SAMPLES
from omphalon.base import stages
from test_ended import Terminal


def test_stages_are_heard_within_and_nowhere_else():
    heard = []
    stages.begins("nobody hears")
    with stages.reported_to(heard.append):
        stages.begins("one")
        with stages.reported_to(lambda words: heard.append(words.upper())):
            stages.begins("two")
        stages.begins("three")
    stages.begins("nobody hears")
    assert heard == ["one", "TWO", "three"]


@pytest.mark.slow
@pytest.mark.parametrize("quiet", [(), ("--quiet",)])
def test_a_long_command_says_at_a_terminal_what_it_is_at(quiet, tmp_path):
    for name in ("card-1.jpg", "card.gcode"):
        shutil.copy(SAMPLES / name, tmp_path)
    terminal = Terminal(
        tmp_path, "card", "fit", "card-1.jpg", "--print", "card.gcode", "--no-record", *quiet
    )
    assert terminal.ended() == 3
    assert (b"its lines are measured" in terminal.shown) == (quiet == ())
