"""Texts in the order of a dictionary rather than of code points: letters first, then accents, then case, and numbers
inside texts by their value; where a language has an order of its own, by that.

After the levels of Unicode TS #10 and the root and languages of the Unicode Common Locale Data Repository (CLDR), which
LETTERS and LANGUAGES hold for what they differ in from the letters' own code points.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cache, partial

import numpy as np

from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core.columns import Column, Ids, Kind
from nimble_otter.table.kernels.codes import codes_of

ORDERS = ("", "dictionary", "letters")
"""By code point; as in a dictionary; by letters alone, whatever their accents and case."""

LETTERS = "d=đ=ð h=ħ i<ı l=ł n<ŋ o=ø t<ŧ z<þ ae=æ oe=œ ss=ß г=ґ д<ђ е<є з<ѕ и<і=ї<й<ј л<љ н<њ т<ћ ч<џ"
"""A rule is a letter, "<" and those that come next in the alphabet, "=" and what is the same but for an accent."""

LANGUAGES = {
    "cs": ("Czech", "c<č h<ch r<ř s<š z<ž"),
    "cy": ("Welsh", "c<ch d<dd f<ff g<ng l<ll p<ph r<rh t<th"),
    "da": ("Danish", "z<æ=ä<ø=ö<å=aa y=ü d=đ=ð th=þ"),
    "de-phonebook": ("German, phone book", "ae=ä oe=ö ue=ü"),
    "eo": ("Esperanto", "c<ĉ g<ĝ h<ĥ j<ĵ s<ŝ u<ŭ"),
    "es": ("Spanish", "n<ñ"),
    "et": ("Estonian", "s<š<z<ž w<õ<ä<ö<ü"),
    "fi": ("Finnish", "z<å<ä=æ<ö=ø y=ü"),
    "hr": ("Croatian", "c<č<ć d<dž<đ l<lj n<nj s<š z<ž"),
    "hu": (
        "Hungarian",
        "c<cs d<dz<dzs g<gy l<ly n<ny o<ö=ő s<sz t<ty u<ü=ű z<zs "
        "cscs=ccs dzdz=ddz dzsdzs=ddzs gygy=ggy lyly=lly nyny=nny szsz=ssz tyty=tty zszs=zzs",
    ),
    "is": ("Icelandic", "a<á d<ð e<é i<í o<ó u<ú y<ý z<þ<æ=ä<ö=ø<å d=đ"),
    "lt": ("Lithuanian", "c<č s<š z<ž i=y"),
    "lv": ("Latvian", "c<č g<ģ i=y k<ķ l<ļ n<ņ r<ŗ s<š z<ž"),
    "no": ("Norwegian", "z<æ=ä<ø=ö<å=aa y=ü d=đ=ð th=þ"),
    "pl": ("Polish", "a<ą c<ć e<ę l<ł n<ń o<ó s<ś z<ź<ż"),
    "ro": ("Romanian", "a<ă<â i<î s<ș=ş t<ț=ţ"),
    "sk": ("Slovak", "a<ä c<č h<ch o<ô r<ř s<š z<ž"),
    "sl": ("Slovenian", "c<č<ć d<đ s<š z<ž"),
    "sq": ("Albanian", "c<ç d<dh e<ë g<gj l<ll n<nj r<rr s<sh t<th x<xh z<zh"),
    "sv": ("Swedish", "z<å<ä=æ<ö=ø y=ü d=đ=ð th=þ"),
    "tr": ("Turkish", "c<ç g<ğ h<ı o<ö s<ş u<ü"),
    "uk": ("Ukrainian", "г<ґ і<ї"),
}
"""By their codes (BCP 47): a name and rules. Languages that are not here have the order of all."""

_OWN = 0x10FF00
_MARKS = {ord(c): 32 + n for n, c in enumerate(" _-,;:!?.'\"()[]{}@*/\\&#%`^+<=>|~$")}
_MARKS |= {
    ord(c): _MARKS[ord(like)] for like, some in {"-": "‐‑‒–—―", "'": "‘’‚‹›", '"': "“”„«»"}.items() for c in some
}
"""Marks stand before digits, in this order, and digits before letters."""
_NUMBER = "A"
_ACCENTS = {0x300 + c: 33 + n for n, c in enumerate(b"\x13\x14\x01\0\x06\x02\x0c\n\x42\x08\x0b\x03\x07\x38'(\x04")}
"""Combining marks in their order; the others follow by their code points."""
_FURTHER = "\u036f"
_UPPER_FIRST = {"da"}
_DIGITS = re.compile("[0-9]+")


def language_of(code: str) -> str:
    """The one of LANGUAGES that a reader's locale ("sv_SE.UTF-8") means; "" where it has no order of its own."""
    name = re.split(r"[_.@-]", code)[0].lower()
    name = {"nb": "no", "nn": "no", "bs": "hr", "az": "tr"}.get(name, name)
    return name if name in LANGUAGES else ""


@dataclass(frozen=True, slots=True)
class _Tailoring:
    """`elements` finds what is not ordered by its own code points; `places` has the letters and the accent of each."""

    elements: re.Pattern[str]
    places: dict[str, tuple[str, str]]
    in_ascii: bool
    turkish: bool


@cache
def _tailoring(language: str) -> _Tailoring:
    places: dict[str, tuple[str, str]] = {}
    for rules in (LETTERS, LANGUAGES[language][1] if language else ""):
        for rule in rules.split():
            first, *further = re.split("(?=[<=])", rule)
            anchor = "".join(places.get(part, (part,))[0] for part in _parts(first, places))
            letters, own, accents = anchor, 0, 0
            for element in further:
                if element[0] == "<":
                    own, accents = own + 1, 0
                    letters = anchor + chr(_OWN + own)
                else:
                    accents += 1
                apart = " " * sum(ord(c) < _OWN for c in letters)
                places[element[1:]] = (letters, apart + _FURTHER * accents)
    return _Tailoring(_elements(places), places, any(e.isascii() for e in places), language == "tr")


def _elements(places: Iterable[str]) -> re.Pattern[str]:
    return re.compile("(" + "|".join(sorted(map(re.escape, places), key=len, reverse=True)) + ")")


def _parts(text: str, places: Iterable[str]) -> list[str]:
    """Elements, and the letters between them."""
    return [part for n, some in enumerate(_elements(places).split(text)) for part in ([some] if n % 2 else some)]


def dictionary_key(text: str, language: str = "") -> str:
    """What texts are ordered by: letters and numbers, then accents, then case, then the text itself."""
    letters, accents = _levels(text, language)
    case = text if language in _UPPER_FIRST else text.swapcase()
    return f"{letters}\0{accents}\0{unicodedata.normalize('NFC', case)}\0{text}"


def letters_key(text: str, language: str = "") -> str:
    """Texts with the same letters and numbers have the same key."""
    return _levels(text, language)[0]


def _levels(text: str, language: str) -> tuple[str, str]:
    rules = _tailoring(language)
    if rules.turkish:
        text = text.replace("I", "ı").replace("İ", "i")
    if text.isascii() and not rules.in_ascii:
        return _numbered(text.lower()), ""
    letters, accents = [], []
    for index, part in enumerate(rules.elements.split(unicodedata.normalize("NFC", text.casefold()))):
        if index % 2:
            base, accent = rules.places[part]
        else:
            apart = unicodedata.normalize("NFKD", part)
            base = "".join(c for c in apart if not unicodedata.combining(c))
            accent = "".join(c if unicodedata.combining(c) else " " for c in apart).translate(_ACCENTS)
        letters.append(base)
        accents.append(accent)
    return _numbered("".join(letters)), "".join(accents).rstrip(" ")


def _numbered(text: str) -> str:
    """Numbers with their length before them, so that they compare by value; marks by their place."""
    text = text.translate(_MARKS)
    return _DIGITS.sub(_valued, text)


def _valued(match: re.Match[str]) -> str:
    digits = match[0].lstrip("0")
    return f"{_NUMBER}{chr(1 + len(digits))}{digits}"


def ranked(column: Column, ids: Ids, order: str, language: str = "", stop: StopToken = NEVER) -> Column:
    """The order of texts in a language.

    Parameters
    ----------
    column : Column
        Of texts.
    ids : ndarray of int64, shape (n,)
    order : str
        One of ORDERS.
    language : str
        One of LANGUAGES, or "" for none.
    stop : StopToken

    Returns
    -------
    Column
        Whole numbers that order the rows `ids`; equal where the keys of the texts are.

    Raises
    ------
    Stopped
    """
    codes, first = codes_of(column, ids, stop)
    make: Callable[[str], str] = partial(letters_key if order == "letters" else dictionary_key, language=language)
    keys = []
    for index, text in enumerate(column.values(ids.take(first))):
        if index % 4096 == 0:
            stop.check()
        keys.append(make(text) if isinstance(text, str) else "")
    stop.check()
    places = sorted(range(len(keys)), key=keys.__getitem__)
    ranks = np.zeros(len(keys), np.int64)
    rank = 0
    for before, index in zip([None, *places], places, strict=False):
        rank += before is not None and keys[before] != keys[index]
        ranks[index] = rank
    whole = np.zeros(len(column), np.int64)
    whole[ids] = ranks.take(codes)
    return Column(Kind.INT, whole, column.empty)
