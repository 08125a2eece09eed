"""Texts in the order of a dictionary rather than of code points: letters first, then accents, then case, and numbers
inside texts by their value.

After the levels of Unicode TS #10, without its table of exceptions for single languages.
"""

from __future__ import annotations

import re
import unicodedata
from typing import Any

import numpy as np

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.codes import codes_of
from nimble_otter.table.columns import Column, Ids, Kind

ORDERS = ("", "dictionary", "letters")
"""By code point; as in a dictionary; by letters alone, whatever their accents and case."""
_NUMBER = re.compile(r"(\d+)")


def dictionary_key(text: str) -> tuple[Any, ...]:
    """What texts are ordered by: letters and numbers, then accents, then case, then the text itself."""
    return (*letters_key(text), _accents(text), text.swapcase(), text)


def letters_key(text: str) -> tuple[Any, ...]:
    """Texts with the same letters and numbers have the same key."""
    return (tuple((1, int(part), "") if part.isdigit() and part.isascii() else (2, 0, _base(part))
                  for part in _NUMBER.split(text) if part),)  # fmt: skip


def _base(text: str) -> str:
    folded = unicodedata.normalize("NFKD", text.casefold())
    return "".join(c for c in folded if not unicodedata.combining(c))


def _accents(text: str) -> str:
    return "".join(c for c in unicodedata.normalize("NFKD", text.casefold()) if unicodedata.combining(c))


def ranked(column: Column, ids: Ids, order: str, stop: StopToken = NEVER) -> Column:
    """A column of whole numbers that orders the rows `ids` of a text column; equal numbers where the key is equal."""
    codes, first = codes_of(column, ids, stop)
    make = letters_key if order == "letters" else dictionary_key
    texts = column.values(ids.take(first))
    keys = [make(text) if isinstance(text, str) else () for text in texts]
    stop.check()
    places = sorted(range(len(keys)), key=keys.__getitem__)
    ranks = np.zeros(len(keys), np.int64)
    rank = 0
    for before, place in zip([None, *places], places, strict=False):
        rank += before is not None and keys[before] != keys[place]
        ranks[place] = rank
    whole = np.zeros(len(column), np.int64)
    whole[ids] = ranks.take(codes)
    return Column(Kind.INT, whole, column.empty)
