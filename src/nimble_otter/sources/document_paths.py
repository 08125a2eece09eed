"""Paths into documents: dotted, as the MongoDB query language has them. A field with a dot in its own name can't be
named in one; it stands as in JSONPath (RFC 9535, 2.3.1), and only whole documents are read and written with it."""

from __future__ import annotations

import re

_OWN = "$['"


def path_of(name: str) -> str:
    """The path of a field of the document itself."""
    if "." not in name and not name.startswith(_OWN):
        return name
    return _OWN + re.sub(r"([\\'])", r"\\\1", name) + "']"


def can_be_asked(path: str) -> bool:
    """Whether a query can name it."""
    return not path.startswith(_OWN)


def parts_of(path: str) -> list[str]:
    """The names on the way, from the outside in."""
    return path.split(".") if can_be_asked(path) else [re.sub(r"\\([\\'])", r"\1", path[len(_OWN) : -2])]
