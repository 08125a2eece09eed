"""Looking for texts in columns of every kind, against plain Python."""

from __future__ import annotations

import datetime as dt
import re
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from nimble_otter.errors import ConditionError
from nimble_otter.pull import run_course
from nimble_otter.pull.steps import Condition, FilterStep
from nimble_otter.query.conditions import parse_condition
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, View, digits
from nimble_otter.table import search as made
from nimble_otter.table.build import column_of, table_of
from nimble_otter.table.filter import filter_view
from nimble_otter.table.search import Search, find_rows, mask_of, said

TEXTS = some.text("aAbkKsSiİı\u212a\u017fßéÉ. 1\0", max_size=5)
VALUES = some.sampled_from([
    TEXTS, some.integers(-1500, 1500), some.integers(-(2**63), 2**63 - 1), some.floats(),
    some.floats(-100, 100).map(lambda v: round(v, 2)),
    some.dates(), some.datetimes().map(lambda t: t.replace(microsecond=0)), some.datetimes(), some.times(),
    some.booleans(),
    some.decimals(-99, 99, places=2), some.timedeltas(dt.timedelta(-3), dt.timedelta(3)),
    some.one_of(TEXTS, some.integers(), some.just(MISSING), some.just({"a": "b"})),
]).flatmap(lambda kind: some.lists(some.none() | kind, min_size=1, max_size=30))  # fmt: skip
NEEDLES = some.one_of(
    TEXTS,
    some.text("0123456789", min_size=1, max_size=4),
    some.sampled_from(["1", "-", "20", "0.", "e", "T", " 1", ":0", "nan", "inf", "yes", "1.5", "00:", "a"]),
)


@pytest.fixture(scope="module", autouse=True)
def small_blocks():
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(digits, "_BLOCK", 4)
        yield


@settings(max_examples=900)
@given(VALUES, NEEDLES, some.booleans(), some.booleans(), some.integers(0, 3))
def test_every_kind_is_searched_as_it_is_written(values, needle, case, word, many):
    values = values + ([f"long{n}" for n in range(1100)] if many == 3 and isinstance(values[0], str) else [])
    column, search = column_of(values), Search(needle, case, word)
    test = search.test()
    ids = np.arange(len(values))[:: (2 if many == 1 else 1)]
    ids = ids[::-1] if many == 2 else ids
    exact = column.values(ids)
    want = [v is not None and v is not MISSING and test(said(v)) for v in exact]
    assert mask_of(column, ids, search).tolist() == want


def test_rows_are_found_in_any_column_whatever_the_blocks(monkeypatch):
    rng = np.random.default_rng(5)
    words = ["Otter", "weir", None, "Sallow Bridge", "otterholt"]
    table = table_of(
        n=rng.integers(0, 2000, 5000).tolist(), t=[words[i] for i in rng.integers(0, 5, 5000)],
        f=[None, *(rng.integers(0, 999, 4999) / 8).tolist()], u=[f"row {n} of Merrow" for n in range(5000)],
    )  # fmt: skip
    view = View(table, rng.permutation(5000)[:4000])
    for search in (Search("12"), Search("otter"), Search("OTTER", case=True), Search("7 of"), Search("weir", word=True),
                   Search("^row 1.*w$", pattern=True), Search("zzz")):  # fmt: skip
        whole = find_rows(view, range(4), search)
        monkeypatch.setattr(made, "BLOCK", 301)
        assert find_rows(view, range(4), search).tolist() == whole.tolist()
        monkeypatch.undo()
        test = search.test()
        rows = list(zip(*(c.values(view.row_ids()) for c in table.columns), strict=True))
        assert whole.tolist() == [any(v is not None and test(said(v)) for v in row) for row in rows]
    wide, stop, told = find_rows(view, range(4), Search("ot")), StopToken(), []
    stop.tell = lambda *n: told.append(n)
    narrow = find_rows(view, range(4), Search("otterh"), stop, wide)
    assert narrow.tolist() == find_rows(view, range(4), Search("otterh")).tolist()
    assert told[-1] == (4000, 4000)
    assert Search("otterh").narrows(Search("ot"))
    assert not Search("otterh", pattern=True).narrows(Search("ot", pattern=True))


def test_what_is_no_pattern_is_refused():
    with pytest.raises(ConditionError, match=r"no regular expression.*character 1"):
        find_rows(View(table_of(a=["x"])), [0], Search("(", pattern=True))


def test_a_condition_on_any_column_is_a_step_like_others():
    table = table_of(a=["Weir", "mill", None], n=[10, 25, 31], d=[Decimal("1.5")] * 3)
    for condition, want in (
        (Condition("anywhere", values=("we",)), [0]), (Condition("anywhere", values=("WE", "case")), []),
        (Condition("anywhere", values=("5",)), [0, 1, 2]),
        (Condition("anywhere", values=("^[13]", "pattern")), [0, 1, 2]),
        (Condition("anywhere", values=("mill", "word")), [1]),
    ):  # fmt: skip
        step = FilterStep((condition,))
        result = run_course(table, (step,)).results[0]
        assert (result.error, result.shaped.view.row_ids().tolist()) == (None, want), condition
        assert FilterStep.from_plain(step.to_plain()) == step
    assert FilterStep((Condition("anywhere", values=("we",)),)).words() == "any column contains we"
    wrong = run_course(table, (FilterStep((Condition("anywhere", values=("(", "pattern")),)),)).results[0].error
    assert "no regular expression" in str(wrong)


PARTS = some.sampled_from(
    ["a", "b", "ab", "k", ".", "[ab]", "[^]a]", r"\.", r"\d", "^", "$", "?", "*", "+", "{2}", "{0,1}", "+?"]
)


@settings(max_examples=500)
@given(some.lists(PARTS, max_size=6).map("".join), some.lists(some.text("abkK.1\u212a", max_size=8), max_size=20))
def test_the_sure_text_of_a_pattern_is_in_all_that_matches(pattern, texts):
    try:
        compiled = re.compile(pattern, re.IGNORECASE)
    except re.error:
        return
    sure = made.required_text(pattern)
    assert all(sure in text for text in texts if re.search(pattern, text))
    long = [*texts, *(f"n{n}" for n in range(1100))]
    table = table_of(t=long)
    for sign, wanted in (("~", re.compile(pattern)), ("~*", compiled)):
        said_so = pattern.replace("'", "''")
        kept = filter_view(View(table), parse_condition(f"t {sign} '{said_so}'", table)).row_ids().tolist()
        assert kept == [n for n, text in enumerate(long) if wanted.search(text)]


def test_sure_texts_of_some_patterns():
    for pattern, sure in (
        ("7[0-9]+7 of", "7 of"),
        ("a|b", ""),
        ("colou?r", "colo"),
        ("^ice.*wind$", "wind"),
        ("x{0}ab", "ab"),
    ):
        assert made.required_text(pattern) == sure


def test_documents_without_a_field_never_hold_a_text():
    column = column_of([MISSING, "Ö-weir", None, *(f"ö{n}" for n in range(1100))])
    assert mask_of(column, np.arange(3), Search("ö")).tolist() == [False, True, False]
