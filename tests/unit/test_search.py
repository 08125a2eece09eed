"""Looking for texts in columns of every kind, against plain Python."""

from __future__ import annotations

import datetime as dt
import random
import re
import time
from dataclasses import replace
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull import run_course
from nimble_otter.pull.steps import Condition, FilterStep
from nimble_otter.query.local.conditions import parse_condition
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, View
from nimble_otter.table.core.build import column_of, table_of
from nimble_otter.table.core.columns import DAY_US, Kind, blanked
from nimble_otter.table.ops import search as made
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.ops.search import Search, find_rows, mask_of, said
from nimble_otter.table.text import digits, patterns
from nimble_otter.table.text.patterns import like_regex
from tests.proofs import how_many
from tests.unit.test_line_speed import MAKE, OBJECTS
from tests.unit.test_line_speed import table_of as own_table

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


@settings(max_examples=how_many(300, 9000))
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


@pytest.mark.parametrize("kind", [kind for kind in MAKE if kind not in OBJECTS])
def test_what_is_told_by_arithmetic_stands_in_the_text(kind):
    """Digits, alone and beside marks, in values of every kind that lie close, far apart and at the ends."""
    draw = random.Random(kind)
    column = own_table(kind, 3000).columns[0]
    if column.data.dtype == np.int64 and column.kind not in (Kind.INT, Kind.TEXT):
        most = {Kind.CLOCK: DAY_US, Kind.DECIMAL: 10**17}.get(column.kind, 10**15)
        signs = (1,) if column.kind is Kind.CLOCK else (1, -1)
        data = np.array([draw.randrange(most // 10 ** draw.randrange(9)) * draw.choice(signs) for _ in range(3000)])
        column = replace(column, data=blanked(data, column.empty), scale=draw.randrange(6) * (kind == "decimal"))
    texts = [None if value is None else said(value).lower() for value in column.values()]
    needles = ["0", "00", "000", *(str(draw.randrange(1000)) for _ in range(20)), "+00", "0:", ".5", "-1", "e"]
    for needle in needles:
        mask = mask_of(column, np.arange(len(column)), Search(needle))
        assert mask.tolist() == [text is not None and needle in text for text in texts], needle


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
    stop.report_progress = lambda *n: told.append(n)
    narrow = find_rows(view, range(4), Search("otterh"), stop, wide)
    assert narrow.tolist() == find_rows(view, range(4), Search("otterh")).tolist()
    assert told[-1] == (4000, 4000)
    assert Search("otterh").narrows(Search("ot"))
    assert not Search("otterh", pattern=True).narrows(Search("ot", pattern=True))


def test_what_is_no_pattern_is_refused():
    with pytest.raises(ConditionError, match=r"not a regular expression.*character 1"):
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
        assert FilterStep.from_plain(Entry(step.to_plain())) == step
    assert FilterStep((Condition("anywhere", values=("we",)),)).words() == "any column contains we"
    wrong = run_course(table, (FilterStep((Condition("anywhere", values=("(", "pattern")),)),)).results[0].error
    assert "not a regular expression" in str(wrong)


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
    sure = patterns.required_text(pattern)
    assert all(sure in text for text in texts if re.search(pattern, text))
    long = [*texts, *(f"n{n}" for n in range(1100))]
    table = table_of(t=long)
    for sign, wanted in (("~", re.compile(pattern)), ("~*", compiled)):
        said_so = pattern.replace("'", "''")
        try:
            condition = parse_condition(f"t {sign} '{said_so}'", table)
        except ConditionError:  # possessive repeats, which the linear engine does not know
            return
        kept = filter_view(View(table), condition).row_ids().tolist()
        assert kept == [n for n, text in enumerate(long) if wanted.search(text)]


def test_sure_texts_of_some_patterns():
    for pattern, sure in (
        ("7[0-9]+7 of", "7 of"),
        ("a|b", ""),
        ("colou?r", "colo"),
        ("^ice.*wind$", "wind"),
        ("x{0}ab", "ab"),
    ):
        assert patterns.required_text(pattern) == sure


def test_documents_without_a_field_never_hold_a_text():
    column = column_of([MISSING, "Ö-weir", None, *(f"ö{n}" for n in range(1100))])
    assert mask_of(column, np.arange(3), Search("ö")).tolist() == [False, True, False]


ATOMS = ["a", "b", "é", "1", "²", ".", r"\w", r"\d", r"\s", r"\W", r"\D", r"\S", "[ab]", "[^a]", r"[\w-]", "(a|b)",
    "(?:ab|é)", "^",
         "$", r"\.", "_", "\u3000", "[]a]", "(?i:A)", "x{,2}", r"\u00e9", r"\Z"]  # fmt: skip
REPEATS = ["", "", "*", "+", "?", "{1,3}", "*?", "+?", "{2,}"]


@settings(max_examples=how_many(150, 20_000))
@given(some.lists(some.tuples(some.sampled_from(ATOMS), some.sampled_from(REPEATS)), min_size=1, max_size=5),
    some.booleans(),
       some.lists(some.text("abAB1٣é²É _.\u3000-x\n", max_size=8), min_size=1, max_size=6))  # fmt: skip
def test_both_engines_of_patterns_agree(parts, case, texts):
    pattern = "".join(map("".join, parts))
    try:
        ends = pattern.replace("$", r"\Z")
        stick = re.compile(ends, re.DOTALL | (0 if case else re.IGNORECASE)).search
    except re.error:
        return
    try:
        linear = patterns._set_of(pattern, case).Match
    except ConditionError:
        return
    own = patterns.tester(pattern, case)
    for text in texts:
        wanted = stick(text) is not None
        assert own(text) == wanted
        assert bool(linear(text.encode())) == wanted


@settings(max_examples=how_many(150, 20_000))
@given(
    some.text("ab%%_", max_size=6) | some.text("ab%_.*é", max_size=7),
    some.lists(some.text("ab", max_size=4) | some.text("abAB.*é\n", max_size=9), min_size=1, max_size=6),
    some.booleans(),
)
def test_like_piece_by_piece_is_like_as_a_whole(pattern, texts, case):
    regex = like_regex(pattern)
    whole = re.compile(regex, re.DOTALL | (0 if case else re.IGNORECASE)).fullmatch
    test = patterns.like_tester(regex, case)
    assert [test(text) for text in texts] == [whole(text) is not None for text in texts]


def test_no_pattern_blows_up_and_what_is_not_known_is_said():
    began = time.perf_counter()
    assert not patterns.tester("(a+)+$", True)("a" * 100_000 + "b")
    assert not patterns.like_tester(like_regex("%a%a%a%a%b"), True)("a" * 100_000)
    assert patterns.tester("(x?){40}y|(a|a)*b", True)("a" * 5000 + "b")
    assert time.perf_counter() - began < 5
    for pattern in (r"(?<=a+)b", "(?=a*)b", r"(a+)\1", "(" * 5000 + ")" * 5000, "[", "a{1,99999}{1,99999}"):
        with pytest.raises(ConditionError):
            patterns.tester(pattern, True)
    for pattern, text in ((r"^\d+$", "1٣"), (r"^\w+$", "aé²"), (r"^\s+$", " \u3000\x1c"), (r"^[\w.]+$", "é.")):
        assert patterns.tester(pattern, True)(text)  # all letters, digits and blanks, in the linear engine too
        assert not patterns.tester(pattern, True)(f"{text}-")
    assert patterns.tester(r"(a)\1", True)("aa")  # bounded: known to Python's engine
