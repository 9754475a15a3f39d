"""What inputs make of their levels: every state of them is in one row, and a wire that breaks never lets a shaft run."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crisp_compass.bench.models import Bench
from crisp_compass.bench.settings.terminals import Axis, DigitalInput, Function, Terminal, TerminalSettings
from crisp_compass.errors import Refusal
from crisp_compass.preparation.terminals import (
    FUNCTIONS,
    GROUPS,
    broken_wire,
    findings_of,
    function_of,
    truth_table,
    with_group,
    with_input,
)

LEVELS = ("high", "low")


def does(inputs: list[DigitalInput], levels: tuple[str, ...]) -> str:
    found = [r.does for r in truth_table(inputs) if all(want in ("", have) for want, have in zip(r.levels, levels, strict=True))]
    assert len(found) == 1, (levels, found)
    return found[0]


@settings(deadline=None)
@given(st.lists(st.tuples(st.sampled_from(list(FUNCTIONS)), st.sampled_from(LEVELS)), min_size=1, max_size=7, unique_by=lambda x: x[0]))
def test_every_state_is_in_exactly_one_row(assigned: list[tuple[Function, str]]) -> None:
    inputs = [DigitalInput(terminal=f"DI{n}", function=f, active=a) for n, (f, a) in enumerate(assigned)]  # type: ignore[arg-type]
    for levels in itertools.product(LEVELS, repeat=len(inputs)):
        on = {i.function for i, level in zip(inputs, levels, strict=True) if level == i.active}
        said = does(inputs, levels)
        moves = said.startswith(("turns", "creeps"))
        if on & {"safety", "stop", "inhibit"} or ("enable" not in on and any(i.function == "enable" for i in inputs)):
            assert not moves
        if moves and "forwards" in said:
            assert "limit_forwards" not in on


@settings(deadline=None)
@given(st.sets(st.sampled_from(list(FUNCTIONS)), min_size=1, max_size=6))
def test_as_proposed_no_broken_wire_is_unsafe(functions: set[Function]) -> None:
    """Shown by the table itself: cutting a wire (low) never turns a shaft that stood into one that moves."""
    own = with_group(TerminalSettings(), "inputs")
    for function in sorted(functions):
        own = with_input(own, function)
    inputs = list(own.inputs)
    assert len({i.terminal for i in inputs}) == len(inputs)
    assert all(broken_wire(i)[1] for i in inputs)
    for levels in itertools.product(LEVELS, repeat=len(inputs)):
        before = does(inputs, levels)
        for n in range(len(inputs)):
            after = does(inputs, (*levels[:n], "low", *levels[n + 1 :]))
            if inputs[n].function not in ("direction", "jog_forwards", "jog_backwards", "limit_forwards", "limit_backwards", "home"):
                assert before.startswith(("turns", "creeps")) or not after.startswith(("turns", "creeps"))


def test_groups_names_and_what_is_found() -> None:
    assert function_of(" Limit forwards ") == "limit_forwards"
    with pytest.raises(Refusal, match="no function of an input"):
        function_of("brake")
    s = with_group(with_group(TerminalSettings(), "inputs"), "mains_3")
    assert [r.terminal for r in s.rows][:4] == ["L1", "L2", "L3", "PE"]  # mains stand first, whatever was added first
    with pytest.raises(Refusal, match="terminals are there"):
        with_group(s, "mains_3")
    assert all(len({t for t, _ in rows}) == len(rows) for _, _, rows in GROUPS.values())

    def codes(**fields: object) -> set[str]:
        bench = Bench()
        own = TerminalSettings.model_validate(fields)
        return {f.code for f in findings_of(bench.model_copy(update={"settings": bench.settings.model_copy(update={"terminals": own})}))}

    mains = Terminal(terminal="L", group="mains")
    assert codes(rows=(mains,)) == {"mains", "no-earth"}
    assert codes(rows=(mains, Terminal(terminal="PE", group="mains"), mains)) == {"mains", "twice"}
    assert codes(inputs=(DigitalInput(terminal="1", function="home"),)) == {"nothing-stops"}
    assert codes(inputs=(DigitalInput(terminal="1", function="stop", active="high"), DigitalInput(terminal="1", function="safety", active="low"))) == {"broken-wire", "safety", "twice"}
    chain = (Axis(name="a", address=1), Axis(name="b", address=2, terminated=True), Axis(name="c", address=2, terminated=True))
    assert codes(axes=chain) == {"chain"}
    assert codes(axes=(chain[0], Axis(name="c", address=3, terminated=True))) == set()
