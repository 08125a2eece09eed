"""What a file of ours says is read with its types, and what is wrong is named by where it stands."""

import json
from dataclasses import fields, replace

import pytest

from nimble_otter.entry import Entry
from nimble_otter.errors import CorruptError
from nimble_otter.pull.file import pull_from_text, pull_to_text
from nimble_otter.pull.model import Pull
from nimble_otter.pull.steps import STEPS
from nimble_otter.pull.steps.join import JoinStep
from nimble_otter.sources.source import Source

SAMPLES = {"text": "a", "flag": True, "whole": 3, "number": 2.5, "values": [1], "entry": {"a": 1}, "none": None}
TAKES = {
    "text": {"text"}, "flag": {"flag"}, "whole": {"whole"}, "number": {"whole", "number"}, "values": {"values"},
    "texts": set(), "pairs": set(), "counts": set(), "entry": {"entry"}, "entries": set(), "named": set(),
    "mapping": {"entry"},
}  # fmt: skip


@pytest.mark.parametrize("read", TAKES)
def test_a_value_of_another_type_is_refused_by_its_name_and_place(read):
    for kind, value in SAMPLES.items():
        entry = Entry({"x": value}, "step 4")
        if kind in TAKES[read]:
            assert getattr(entry, read)("x") == value or isinstance(getattr(entry, read)("x"), (tuple, Entry))
        else:
            with pytest.raises(ValueError, match=r"x .*of step 4 should be"):
                getattr(entry, read)("x")


def test_what_is_missing_is_named_or_has_its_default():
    entry = Entry({"texts": ["a", "b"], "pairs": [["a", "b"]], "counts": [["a", 2]]}, "chart 1")
    for read in (entry.text, entry.whole, entry.number, entry.value):
        with pytest.raises(ValueError, match="chart 1 has no size"):
            read("size")
    assert (entry.text("size", ""), entry.whole("size", 3), entry.flag("size"), entry.texts("size")) == (
        "",
        3,
        False,
        (),
    )
    assert (entry.texts("texts"), entry.pairs("pairs"), entry.counts("counts")) == (
        ("a", "b"),
        (("a", "b"),),
        (("a", 2),),
    )
    with pytest.raises(ValueError, match="texts of chart 1 should be a text"):
        entry.word("texts", ("up", "down"))
    with pytest.raises(ValueError, match="size of chart 1 should be one of up, down"):
        Entry({"size": "wide"}, "chart 1").word("size", ("", "up", "down"))


def pull_with(step):
    return Pull("Station", Source("Merrow", "sqlite:///merrow.db"), steps=(step,))


@pytest.mark.parametrize("kind", STEPS)
def test_a_step_of_every_kind_is_kept_with_its_name_on_or_off(kind):
    step = STEPS[kind]()
    if "other" in {f.name for f in fields(step)}:
        step = replace(step, other="Catchment")
    for on in (True, False):
        for name in ("", "Only wet days"):
            kept = replace(step, on=on, name=name)
            assert pull_from_text(pull_to_text(pull_with(kept))).steps == (kept,)


def test_a_join_of_an_older_file_keeps_its_columns():
    step = JoinStep("Catchment", (("id", "station_id"),))
    text = pull_to_text(pull_with(step))
    assert "pairs" in text
    assert pull_from_text(text.replace("pairs = ", "on = ")).steps == (step,)


@pytest.mark.parametrize("kind", STEPS)
def test_every_wrong_value_of_a_step_is_refused_and_said_where_it_stands(kind):
    """Each value of each kind of step, given each other type: kept as it is read, or refused with the step's number."""
    step = STEPS[kind]()
    plain = json.loads(json.dumps({"kind": kind, "on": True, "name": "n"} | step.to_plain()))
    for name in plain:
        for value in SAMPLES.values():
            if value is None or type(value) is type(plain[name]):
                continue
            text = pull_to_text(replace(pull_with(step), steps=())) + "[[step]]\n"
            text += "\n".join(f"{key} = {_toml(value if key == name else own)}" for key, own in plain.items())
            if (kind, name, type(value)) == ("join", "on", list):  # the pairs of an older join
                value = ["x"]
            with pytest.raises(CorruptError, match="step 1"):
                pull_from_text(text)


def _toml(value):
    if isinstance(value, dict):
        return "{" + ", ".join(f"{key} = {_toml(own)}" for key, own in value.items()) + "}"
    return f"[{', '.join(map(_toml, value))}]" if isinstance(value, (list, tuple)) else json.dumps(value)
