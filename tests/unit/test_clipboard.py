"""Copies of cells for every receiver."""

import datetime as dt
import json
from decimal import Decimal

import numpy as np
import pytest

from nimble_otter.errors import SendError, Stopped
from nimble_otter.send import rows_of_view
from nimble_otter.send.clipboard import MOST_HTML_CELLS, copied
from nimble_otter.sources.source import dialect_of
from nimble_otter.stop import StopToken
from nimble_otter.table import View
from nimble_otter.table.core.build import table_of


def block(**columns):
    made = table_of(**columns)
    return rows_of_view(made.fields, made.columns, View(made), "lab_sample")


SOME = {"station": ["Alder\tWeir", "=1+1", None], "level_m": [Decimal("1.50"), Decimal("-2.25"), None]}


def test_cells_are_text_and_a_table_at_once():
    made = copied([block(**SOME)])
    assert (made.text, made.cells) == ('"Alder\tWeir"\t1.50\n\'=1+1\t-2.25\n\t', 6)
    assert "<td>Alder\tWeir</td><td>1.50</td>" in made.html
    assert "<td style=\"mso-number-format:'\\@'\">=1+1</td>" in made.html
    assert copied([block(**SOME)], "header").text.startswith("station\tlevel_m\n")
    assert copied([block(a=[1]), block(b=["x"])]).text == "1\nx"
    many = block(n=np.arange(MOST_HTML_CELLS + 1).tolist())
    assert copied([many]).html == ""


def test_the_receiving_locale_is_kept_to():
    rows = block(n=[1.5], d=[dt.date(2031, 5, 28)], t=[dt.datetime(2031, 5, 28, 8, 1)], s=["=x"])
    locale = {"decimal": "comma", "date": "dd.MM.yyyy", "time": "dd.MM.yyyy HH:mm", "guard": False}
    made = copied([rows], "cells", locale)
    assert made.text == "1,5\t28.05.2031\t28.05.2031 08:01\t=x"
    assert "<td>1,5</td><td>28.05.2031</td>" in made.html
    assert copied([rows], "csv", locale).text.splitlines()[1] == '"1,5",28.05.2031,28.05.2031 08:01,=x'
    assert json.loads(copied([rows], "json", locale).text)[0]["n"] == 1.5


def test_forms_for_queries():
    rows = block(**{"or der": ["it's", "b", "b", None], "n": [1, 2, 2, None]})
    assert copied([rows], "names").text == '"or der", n'
    assert copied([rows], "names", dialect=dialect_of("mysql")).text == "`or der`, n"
    assert copied([rows], "list").text == "'it''s', 'b', 1, 2"
    assert copied([block(t=["a\\b"])], "list", dialect=dialect_of("postgresql")).text == "E'a\\\\b'"
    assert copied([rows], "sql").text.startswith('insert into lab_sample ("or der", n) values\n')
    assert copied([rows], "markdown").text.splitlines()[2] == "| it's | 1 |"
    with pytest.raises(SendError, match="NaN"):
        copied([block(n=[float("nan")])], "list", dialect=dialect_of("mysql"))


def test_a_copy_can_be_stopped():
    stop = StopToken()
    stop.set()
    for form in ("cells", "list", "json"):
        with pytest.raises(Stopped):
            copied([block(a=[1])], form, stop=stop)
