"""What one of our files says, read with its types: what is missing or of a wrong type is named by where it stands."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from enum import StrEnum
from typing import TypeVar

from nimble_otter.translation import tr

_Word = TypeVar("_Word", bound=StrEnum)
_Second = TypeVar("_Second")
_NEEDED = object()


class Entry:
    """The named values of one place of a file, as a parser of TOML or JSON read them. Immutable.

    Parameters
    ----------
    given : object
        What the parser read there; a mapping with names for keys is right.
    at : str
        Names the place in messages, as in "step 2".

    Raises
    ------
    ValueError
        `given` is no such mapping. Every method raises it too, for a name that is missing and has no default, and for
        a value of another type: a whole number is a number, but a flag is none and a text is never taken apart.
    """

    __slots__ = ("_given", "at")

    def __init__(self, given: object, at: str = "it") -> None:
        if not isinstance(given, Mapping) or not all(isinstance(name, str) for name in given):
            raise ValueError(tr("{at} should be named values", at=at))
        self._given: Mapping[str, object] = given
        self.at = at

    def __contains__(self, name: str) -> bool:
        return name in self._given

    def __iter__(self) -> Iterator[str]:
        return iter(self._given)

    def value(self, name: str, default: object = _NEEDED) -> object:
        """Whatever stands there. Raises: ValueError where nothing does and there is no `default`."""
        given = self._given.get(name, default)
        if given is _NEEDED:
            raise ValueError(tr("{at} has no {name}", at=self.at, name=name))
        return given

    def text(self, name: str, default: object = _NEEDED) -> str:
        """A text. Raises: ValueError."""
        given = self.value(name, default)
        if not isinstance(given, str):
            raise self._wrong(name, tr("a text"))
        return given

    def flag(self, name: str, default: bool = False) -> bool:
        """Yes or no. Raises: ValueError."""
        given = self.value(name, default)
        if not isinstance(given, bool):
            raise self._wrong(name, tr("true or false"))
        return given

    def whole(self, name: str, default: object = _NEEDED) -> int:
        """A whole number. Raises: ValueError."""
        given = self.value(name, default)
        if not isinstance(given, int) or isinstance(given, bool):
            raise self._wrong(name, tr("a whole number"))
        return given

    def number(self, name: str, default: object = _NEEDED) -> float:
        """A number, whole or not. Raises: ValueError."""
        given = self.value(name, default)
        if not isinstance(given, (int, float)) or isinstance(given, bool):
            raise self._wrong(name, tr("a number"))
        return float(given)

    def word(self, name: str, words: Iterable[str], default: object = _NEEDED) -> str:
        """One of the `words`. Raises: ValueError."""
        given, known = self.text(name, default), tuple(words)
        if given not in known:
            choices = ", ".join(filter(None, known)) if len(known) < 10 else tr("those of docs/pull-file.md")
            raise self._wrong(name, tr("one of {choices}, not {given!r}", choices=choices, given=given[:40]))
        return given

    def member(self, name: str, of: type[_Word], default: object = _NEEDED) -> _Word:
        """One of an enumeration's words. Raises: ValueError."""
        return of(self.word(name, of, default))

    def values(self, name: str) -> tuple[object, ...]:
        """A list; no value is an empty one. Raises: ValueError."""
        given = self.value(name, ())
        if not isinstance(given, (list, tuple)):
            raise self._wrong(name, tr("a list"))
        return tuple(given)

    def texts(self, name: str) -> tuple[str, ...]:
        """A list of texts. Raises: ValueError."""
        given = self.values(name)
        texts = tuple(each for each in given if isinstance(each, str))
        if len(texts) != len(given):
            raise self._wrong(name, tr("a list of texts"))
        return texts

    def pairs(self, name: str) -> tuple[tuple[str, str], ...]:
        """A list of two texts each. Raises: ValueError."""
        return self._of_two(name, str, tr("a list of pairs of texts"))

    def counts(self, name: str) -> tuple[tuple[str, int], ...]:
        """A list of a text and a whole number each. Raises: ValueError."""
        return self._of_two(name, int, tr("a list of texts with their counts"))

    def mapping(self, name: str) -> dict[str, object]:
        """Named values, or none. Raises: ValueError."""
        entry = self.entry(name)
        return {key: entry.value(key) for key in entry}

    def entry(self, name: str) -> Entry:
        """The place under a name; an empty one where it is missing. Raises: ValueError."""
        return Entry(self.value(name, {}), tr("{name} of {at}", name=name, at=self.at))

    def entries(self, name: str) -> tuple[Entry, ...]:
        """The places of a list. Raises: ValueError."""
        return tuple(
            Entry(each, tr("{name} {k} of {at}", name=name, k=k, at=self.at))
            for k, each in enumerate(self.values(name), 1)
        )

    def named(self, name: str) -> dict[str, Entry]:
        """The places of a mapping by their names. Raises: ValueError."""
        return {
            key: Entry(each, tr("{key} in {name} of {at}", key=key, name=name, at=self.at))
            for key, each in self.mapping(name).items()
        }

    def _of_two(self, name: str, second: type[_Second], wanted: str) -> tuple[tuple[str, _Second], ...]:
        pairs = []
        for each in self.values(name):
            match each:
                case [str(text), other] if type(other) is second:
                    pairs.append((text, other))
                case _:
                    raise self._wrong(name, wanted)
        return tuple(pairs)

    def _wrong(self, name: str, wanted: str) -> ValueError:
        return ValueError(tr("{name} of {at} should be {wanted}", name=name, at=self.at, wanted=wanted))
