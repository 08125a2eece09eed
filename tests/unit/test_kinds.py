"""Times with a zone, times of day, intervals, mixed values: how they are held, ordered, compared and written."""

from __future__ import annotations

import datetime as dt
import uuid
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from nimble_otter.errors import ConditionError
from nimble_otter.query.local.conditions import parse_condition, parse_expression
from nimble_otter.send import format_for, rows_of_view, send_text
from nimble_otter.table import MISSING, Field, Kind, Table, TableBuilder, View
from nimble_otter.table.core.build import ColumnBuilder, table_of
from nimble_otter.table.core.columns import Column
from nimble_otter.table.kernels.keys import object_key
from nimble_otter.table.ops.combine import How, appended, join
from nimble_otter.table.ops.expressions import compute
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.ops.group import group_view
from nimble_otter.table.ops.measures import Aggregate
from nimble_otter.table.ops.measures import AggregateFunction as Agg
from nimble_otter.table.ops.patch import patched
from nimble_otter.table.ops.profile import profile, value_counts
from nimble_otter.table.ops.search import Search, find_rows
from nimble_otter.table.ops.sort import SortKey, sort_view
from nimble_otter.table.text.collation import language_of, letters_key
from nimble_otter.table.text.show import plain, shown
from nimble_otter.table.text.text_format import (
    SPAN_FORMS,
    parse_span,
    read_styled,
    read_styled_at_once,
    render,
    render_all,
    span_text,
)
from tests.proofs import how_many

HOUR = dt.timedelta(hours=1)
MOMENTS = some.datetimes(dt.datetime(2, 1, 1), dt.datetime(9998, 1, 1)).map(lambda v: v.replace(tzinfo=dt.UTC))
SPANS = some.timedeltas(dt.timedelta(days=-40_000), dt.timedelta(days=40_000))


def built(hint: Kind | None, *batches: list) -> tuple[Column, str]:
    builder = ColumnBuilder(hint)
    for batch in batches:
        builder.extend(batch)
    return builder.finish(), builder.form


@given(some.lists(some.none() | MOMENTS | some.just(MISSING), max_size=30), some.integers(1, 9))
def test_zoned_times_come_back_from_objects_and_from_text(values, size):
    whole, _ = built(None, *(values[n : n + size] for n in range(0, len(values), size)))
    assert whole.values() == values
    texts = [v if v is None or v is MISSING else render(v, "%Y-%m-%d %H:%M:%S?+05:30") for v in values]
    column, form = built(Kind.ZONED, texts)
    assert column.values() == values
    if any(isinstance(v, dt.datetime) for v in values):
        assert (column.kind, render_all(column.values(), form)) == (Kind.ZONED, texts)


@given(some.lists(some.none() | some.times(), max_size=20), some.lists(some.none() | SPANS, max_size=20))
def test_clocks_and_spans_come_back(clocks, spans):
    for values in (clocks, spans):
        assert built(None, values)[0].values() == values
    for form in ("h:m:s", "d h:m:s"):
        texts = [None if v is None else render(v, form) for v in spans]
        column, kept = built(Kind.SPAN, texts)
        assert column.values() == spans
        assert render_all(column.values(), kept) == texts
    texts = [None if v is None else v.isoformat("microseconds") for v in clocks]
    column, kept = built(Kind.CLOCK, texts)
    assert render_all(column.values(), kept) == texts
    assert column.values() == clocks


@pytest.mark.parametrize(
    ("hint", "batches", "kind"),
    [
        (Kind.CLOCK, [["23:00:00", None], ["07:30:00"]], Kind.CLOCK),
        (Kind.CLOCK, [["838:59:59", "-01:00:00"]], Kind.SPAN),
        (Kind.CLOCK, [["23:00:00"], ["24:00:00"]], Kind.TEXT),
        (Kind.CLOCK, [["07:00:00.500", "08:00:00.250"]], Kind.CLOCK),
        (Kind.SPAN, [["1 day 02:00:00"], ["1 mon"]], Kind.TEXT),
        (Kind.SPAN, [["-1 days +02:03:04", "3 days", "-00:00:01"]], Kind.TEXT),
        (Kind.SPAN, [["1 day", "2 days 01:00:00", "-00:00:01"]], Kind.SPAN),
        (Kind.ZONED, [["2031-03-29 12:00:00+01"], ["2031-03-31 12:00:00+02"]], Kind.ZONED),
        (Kind.ZONED, [["2031-03-29 12:00:00+01"], ["infinity"]], Kind.TEXT),
        (Kind.ZONED, [[None], [None]], Kind.TEXT),
    ],
)  # fmt: skip
def test_what_a_server_writes_is_kept_to_the_letter(hint, batches, kind):
    column, form = built(hint, *batches)
    assert column.kind is kind
    texts = [text for batch in batches for text in batch]
    got = render_all(column.values(), form)
    if hint is Kind.ZONED:  # the moments, where offsets differ
        got = [plain(v) for v in got]
        texts = [t if t in (None, "infinity") or (kind is Kind.TEXT and t == got[n]) else plain(
            dt.datetime.fromisoformat(t).astimezone(dt.UTC)) for n, t in enumerate(texts)]  # fmt: skip
        texts = [t or "" for t in texts] if None in texts else texts
    assert got == texts


def test_an_offset_that_is_data_is_kept():
    own = dt.datetime(2031, 1, 1, tzinfo=dt.timezone(HOUR))
    column, _ = built(None, [own, own])
    assert column.kind is Kind.OBJECT
    assert [v.utcoffset() for v in column.values()] == [HOUR, HOUR]


@given(SPANS)
def test_spans_are_read_as_they_are_written(span):
    assert parse_span(span_text(span)) == span == parse_span(render(span, "d h:m:s"))


def test_new_kinds_are_compared_sorted_shown_and_added():
    table = table_of(
        z=[dt.datetime(2031, 5, 28, 23, tzinfo=dt.UTC), None, dt.datetime(2031, 5, 28, 1, tzinfo=dt.UTC)],
        c=[dt.time(23), dt.time(7, 30), None],
        s=[3 * HOUR, -HOUR, 30 * HOUR],
        k=["a", "a", "b"],
    )
    view = View(table)

    def kept(text: str) -> list[int]:
        return filter_view(view, parse_condition(text, table)).row_ids().tolist()

    assert kept("z > '2031-05-28 12:00'") == kept("z >= '2031-05-29T00:00:00+01:00'") == [0]
    assert (kept("c < '12:00'"), kept("s > '1 day'"), kept("s between '00:00' and '26:00:00'")) == ([1], [2], [0])
    assert kept("z is null or c is null") == [1, 2]
    for wrong in ("c > 'noon'", "s = 'long'", "z = 'then'"):
        with pytest.raises(ConditionError, match="is not one"):
            kept(wrong)
    assert [sort_view(view, [SortKey(n)]).row_ids().tolist() for n in range(3)] == [[2, 0, 1], [1, 0, 2], [1, 0, 2]]
    assert [shown(table.columns[n].value(0)) for n in range(3)] == ["2031-05-28 23:00:00Z", "23:00:00", "03:00:00"]
    figures = (
        Agg.SUM,
        Agg.MEAN,
        Agg.MEDIAN,
        Agg.RANGE,
        Agg.MAX,
    )
    made = group_view(view, [3], [Aggregate(f, 2) for f in figures]).leaves
    assert [c.value(0) for c in made.columns[1:]] == [2 * HOUR, HOUR, HOUR, 4 * HOUR, 3 * HOUR]
    with pytest.raises(ConditionError, match="no sum"):
        group_view(view, [3], [Aggregate(Agg.SUM, 1)])
    moved = compute(parse_expression("z + s", table), table, np.arange(3))
    assert (moved.kind, moved.value(2)) == (Kind.ZONED, dt.datetime(2031, 5, 29, 7, tzinfo=dt.UTC))
    assert compute(parse_expression("s * 2", table), table, np.arange(3)).value(1) == -2 * HOUR


MIXED = [
    [{"a": 1}], b"\x01", uuid.UUID(int=7), HOUR, dt.time(3), dt.date(2031, 1, 2), dt.datetime(2031, 1, 1, 12),
    dt.datetime(2031, 1, 1, 13, tzinfo=dt.UTC), True, False, "b", "a", float("nan"), 2**70, Decimal("1.5"), 1, -3,
]  # fmt: skip


def test_mixed_columns_have_one_order_and_keep_types():
    builder = TableBuilder((Field("m", Kind.TEXT),))
    for value in MIXED:
        builder.append([(value,)])
    table: Table = builder.table()
    assert [type(v) for v in table.columns[0].values()] == [type(v) for v in MIXED]
    ordered = sort_view(View(table), [SortKey(0)]).row_ids().tolist()
    want = [16, 15, 14, 13, 12, 11, 10, 9, 8, 6, 7, 5, 4, 3, 2, 1, 0]
    assert ordered == want
    assert sort_view(View(table), [SortKey(0, descending=True)]).row_ids().tolist() == want[::-1]
    assert object_key(1)[:2] == object_key(1.0)[:2] == object_key(Decimal(1))[:2]


def test_texts_in_the_order_of_a_dictionary_and_by_letters_alone():
    words = [
        "weir 10",
        "Weir 9",
        None,
        "Zaun",
        "élan",
        "Elan",
        "elan",
        "apple",
        "Élan",
        "weir 10b",
        "",
        "1b",
        "ß",
        "ss",
    ]
    for texts in (words, [*words, *(f"zz{n}" for n in range(1200))]):
        table = table_of(t=texts, n=list(range(len(texts)))[::-1])
        view = View(table)

        def sorted_by(view=view, table=table, **how) -> list:
            ids = sort_view(view, [SortKey(0, **how), SortKey(1)]).row_ids()
            return [v for v in table.columns[0].values(ids) if v is None or not v.startswith("zz")]

        assert sorted_by(order="dictionary") == [
            "", "1b", "apple", "elan", "Elan", "élan", "Élan", "ss", "ß", "Weir 9", "weir 10", "weir 10b", "Zaun",
            None,
        ]  # fmt: skip
        assert sorted_by(order="dictionary", descending=True, empty_first=True)[:4] == [
            None,
            "Zaun",
            "weir 10b",
            "weir 10",
        ]
        alike = sorted_by(order="letters")[3:7]
        assert alike == ["Élan", "elan", "Elan", "élan"]  # equal letters: the next key decides
    assert sort_view(View(table_of(t=["b", None, "a"])), [SortKey(0, order="dictionary")]).row_ids().tolist() == [
        2,
        0,
        1,
    ]
    assert sort_view(View(table_of(n=[2, 1])), [SortKey(0, order="dictionary")]).row_ids().tolist() == [1, 0]


IN_ORDER = {
    "": "_x -x 2 10 ae æ af cote Cote coté côte dz đz Đz hz iz ıa lz łz oa øz z þ иа іа йа",
    "cs": "cz čas dům hz chata ia rz řeka sz šum zz žena",
    "da": "A a zebra ägg ænder øl öl ål Aarhus",
    "de-phonebook": "ad ae ä äf oe öl of ue ué ü uf",
    "es": "cz nz ña oa",
    "hu": "cukor csap dz dzs ez kasza kassza kaszt oz őr ös ősz",
    "is": "az ál bz dz ða ez éa z þa æa öa",
    "no": "Zz æra ære ø ål ås Aasen",
    "pl": "az ąz bz cz ćz lz łz zz źle żal",
    "sv": "th þa u v w x y ü z år ärlig æsj ö ølse",
    "tr": "cz çz gz ğz hz ıl Il il İz oz öz sz şz uz üz",
    "uk": "га гя ґа є ж з и і ї й к",
}
"""As a library with the tables of CLDR puts them."""


@pytest.mark.parametrize(("language", "words"), IN_ORDER.items())
def test_texts_are_put_by_the_alphabet_of_a_language(language, words):
    shuffled = sorted(words.split(), key=lambda word: word[::-1])
    ids = sort_view(View(table_of(t=shuffled)), [SortKey(0, order="dictionary", language=language)]).row_ids()
    assert [shuffled[i] for i in ids] == words.split()
    alone = sort_view(View(table_of(t=shuffled)), [SortKey(0, order="letters", language=language)]).row_ids()
    assert [letters_key(shuffled[i], language) for i in alone] == [letters_key(w, language) for w in words.split()]


def test_the_readers_language_is_found_by_a_locale():
    assert [language_of(c) for c in ("sv_SE.UTF-8", "nb_NO", "en_GB", "C", "")] == ["sv", "no", "", "", ""]


FEW_UUIDS = some.uuids() | some.sampled_from([uuid.UUID(int=n << 60) for n in range(4)] + [uuid.UUID(int=9)])


@settings(max_examples=how_many(40, 1000))
@given(some.lists(some.tuples(some.none() | FEW_UUIDS.map(str), some.integers(0, 2)), min_size=1, max_size=30))
def test_uuids_are_put_found_and_written_as_their_texts_are(rows):
    texts, groups = [text for text, _ in rows], [group for _, group in rows]
    held, form = built(Kind.UUID, texts[:7], texts[7:])
    if any(texts):
        assert (held.kind, held.data.itemsize, form) == (Kind.UUID, 16, "")
    assert held.values() == texts
    sought = next((t for t in texts if t), "00000000-0000-0000-0000-000000000009")
    answers = []
    for column in (held, built(None, texts)[0]):
        table = table_of(t=texts, g=groups, n=list(range(len(rows))))
        fields = (Field("t", column.kind, declared="uuid"), *table.fields[1:])
        table = Table(fields, (column, *table.columns[1:]), table.rows)
        view, said = View(table), []
        for key in (SortKey(0), SortKey(0, True), SortKey(0, empty_first=True), SortKey(0, True, True)):
            said.append(sort_view(view, [key]).row_ids().tolist())
        said.append(sort_view(view, [SortKey(1), SortKey(0)]).row_ids().tolist())
        conditions = [f"t {op} '{sought}'" for op in ("=", "<>", "<", "<=", ">", ">=")]
        for text in (*conditions, f"t in ('{sought}')", "t is null", f"t like '%{sought[4:20]}%'", "t ilike '0%'"):
            said.append(filter_view(view, parse_condition(text, table)).row_ids().tolist())
        figures = (Agg.FILLED, Agg.DISTINCT, Agg.MIN, Agg.MAX, Agg.FIRST, Agg.LAST, Agg.MODE,
                   Agg.LIST)  # fmt: skip
        made = group_view(view, [1], [Aggregate(f, 0) for f in figures])
        said += [c.values() for t in (made.leaves, made.totals) for c in t.columns]
        said += [group_view(view, [0], [Aggregate(Agg.SUM, 2)]).leaves.columns[n].values() for n in (0, 1)]
        said += [value_counts(view, 0), (profile(view, 0).distinct, profile(view, 0).frequent)]
        for search in (Search(sought[2:11]), Search("0000-0"), Search("g"), Search("A"), Search("A", case=True),
                       Search("^0", pattern=True), Search(sought, word=True)):  # fmt: skip
            said.append(find_rows(view, [0], search).tolist())
        said += [c.values() for c in appended(table, table.take(np.arange(len(rows))[::-1])).columns]
        said += [c.values() for c in join(View(table), table_of(t=[sought], x=[5]), [(0, 0)], How.LEFT)[0].columns]
        said += [compute(parse_expression(text, table), table, np.arange(len(rows))).values()
                 for text in ("lag(t) over (order by n)", "left(cast(t as text), 4) || g",
                              "coalesce(cast(t as text), 'none')")]  # fmt: skip
        rows_sent = rows_of_view(table.fields, table.columns, view, "made")
        for key in ("csv", "json", "jsonl", "html", "markdown", "text", "xml", "sql"):
            said.append(send_text(rows_sent, format_for(key), {}))
        answers.append(said)
    assert answers[0] == answers[1]


def test_a_uuid_is_compared_in_any_of_its_forms_and_others_stay_text():
    texts = ["6f9619ff-8b86-d011-b42d-00cf4fc964ff", None]
    column = built(Kind.UUID, texts)[0]
    table = Table((Field("t", Kind.UUID),), (column,), 2)
    for form in ("6F9619FF-8B86-D011-B42D-00CF4FC964FF", "{6f9619ff-8b86-d011-b42d-00cf4fc964ff}",
                 "6f9619ff8b86d011b42d00cf4fc964ff"):  # fmt: skip
        assert filter_view(View(table), parse_condition(f"t = '{form}'", table)).row_ids().tolist() == [0]
    with pytest.raises(ConditionError, match="t holds UUIDs; '6f96' is not one"):
        filter_view(View(table), parse_condition("t = '6f96'", table))
    for odd in (texts[0].upper(), texts[0][:-1], texts[0].replace("-", " "), texts[0][:-1] + "ő", texts[0] + "0", ""):
        made = built(Kind.UUID, texts, [odd])[0]
        assert (made.kind, made.values()) == (Kind.TEXT, [*texts, odd])
    assert built(Kind.UUID, texts, [7])[0].values() == [*texts, 7]
    changed = patched(table, {1: {0: "00000000-0000-0000-0000-000000000001"}}, added=[{0: None}])
    assert (changed.fields[0].kind, changed.columns[0].values()[1:]) == (
        Kind.UUID, ["00000000-0000-0000-0000-000000000001", None])  # fmt: skip


# --- many at once ------------------------------------------------------------------------------------------------

WIDE_SPANS = some.one_of(
    some.timedeltas(dt.timedelta(days=-40_000_000), dt.timedelta(days=40_000_000)),
    some.timedeltas(dt.timedelta(-2), dt.timedelta(2)),
    some.integers(-3, 3).map(lambda n: dt.timedelta(days=n)),
)
ZONES = ("+00", "Z", "-03:30", "+1245")
WRITTEN = {
    Kind.ZONED: (MOMENTS, tuple(f"%Y-%m-%d{sep}%H:%M:%S?{zone}" for sep in " T" for zone in ZONES)),
    Kind.CLOCK: (some.times() | some.times().map(lambda t: t.replace(microsecond=0)), ("%H:%M:%S?",)),
    Kind.SPAN: (WIDE_SPANS, SPAN_FORMS),
}
"""Values, and the forms in which arrays read them."""


@pytest.mark.parametrize("kind", WRITTEN)
@settings(max_examples=how_many(200, 20_000))
@given(some.data())
def test_what_is_read_at_once_is_what_is_read_one_by_one(kind, data):
    values, forms = WRITTEN[kind]
    form = data.draw(some.sampled_from(forms))
    given_ = data.draw(some.lists(values, min_size=1, max_size=8))
    texts = render_all(given_, form)
    found = read_styled_at_once(texts, kind, "", True, 0)
    assert found is not None, texts
    assert render_all(given_, found[1]) == texts
    assert Column(kind, found[0]).values() == given_
    before = read_styled_at_once(texts, kind, form, False, 0)
    assert before is not None
    assert (before[0] == found[0]).all()
    # one text is spoilt: it is not read at once, or is another value that is written so
    at, letter = data.draw(some.integers(0, len(texts) - 1)), data.draw(some.sampled_from("0159 -+:.TZdays\nxé"))
    place = data.draw(some.integers(0, len(texts[at])))
    cut = data.draw(some.integers(0, 2))
    spoilt = [*texts]
    spoilt[at] = texts[at][:place] + letter + texts[at][place + cut :]
    found = read_styled_at_once(spoilt, kind, "", True, 0)
    if found is not None:
        assert render_all(Column(kind, found[0]).values(), found[1]) == spoilt
        assert Column(kind, found[0]).values() == read_styled(spoilt, kind)


def test_intervals_go_on_when_days_come_later():
    column, form = built(Kind.SPAN, ["02:00:00", "00:00:01.5"], ["1 day 02:00:00"], ["-3 days"])
    assert (column.kind, form) == (Kind.SPAN, "d h:m:s")
    assert render_all(column.values(), form) == ["02:00:00", "00:00:01.5", "1 day 02:00:00", "-3 days"]
    column, form = built(Kind.SPAN, ["26:00:00"], ["1 day 02:00:00"])
    assert (column.kind, column.values()) == (Kind.TEXT, ["26:00:00", "1 day 02:00:00"])


NOT_AS_WRITTEN = (
    "1 day -02:00:00", "-1 days +02:00:00", "-1 days 02:00:00", "1 days", "2 day", "01:00", "1 day 24:00:00", "+1 day",
    "1 day 00:00:00", "007:00:00", " 00:00:00", "-00:00:00", "00:00:00.10", "00:60:00", "0 days", "1 day  01:00:00",
    "1 mon", "1 day 1:00:00", "01:00:00 ", "99999999 days", "1 day 01:00:00.1234567", "", "day", "1 dax",
)  # fmt: skip


@pytest.mark.parametrize("text", NOT_AS_WRITTEN)
def test_an_interval_written_otherwise_is_not_read_at_once(text):
    """Each would be written back in other letters."""
    assert read_styled_at_once([text], Kind.SPAN, "", True, 0) is None
    assert read_styled_at_once(["00:00:01", text, "1 day"], Kind.SPAN, "", True, 0) is None
