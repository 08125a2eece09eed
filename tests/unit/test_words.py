"""Texts for users are professional English: no turn of phrase that a colleague would not use, in any string of the
program."""

import ast
import re
from pathlib import Path

import pytest

import nimble_otter

ROOT = Path(nimble_otter.__file__).parent
KEYS = {"is none of"}
"""Words of the pull file, which are shown otherwise."""

WRONG = {
    r"\b(is|are) none\b": "is not one",
    r"(?<!there )\b(is|are|'s) no (?!longer\b|other\b|more\b|such\b)\w": "is not a",
    r"\btak(e|es|ing|en) back\b|\btook back\b": "revert",
    r"\b(is|are) there already\b|\bas they are there\b": "already exists",
    r"\bholds? yes or no\b": "is a boolean",
    r"\bneither of\b|\bnone of them\b": "say which ones do",
    r"\bnot said\b": "not set",
    r"\bworked out\b|\breckon": "computed",
    r"\bmends?\b|\bmended\b": "fix",
    r"\blaid out\b|\blay the\b": "format",
    r"\bkeeper\b": "administrator",
    r"\bfigures?\b": "aggregate, statistics",
    r"\bby chance\b": "at random",
    r"\bput(s)? back\b|\bbrings? back\b": "restore",
    r"\banew\b": "again",
    r"\bmeets? (every|none)\b|\bmet none\b": "match",
    r"\balike\b": "equal",
    r"\bset empty\b(?! text)": "set NULL",
    r"\bcan't be asked of\b": "is not supported for",
    r"\bstill coming in\b": "arriving",
    r"\bticked\b|\btick (some|single|the)\b": "checked, selected",
    r"\bstands? (here|there)\b": "is used",
    r"\bkept by\b": "maintained by",
}


ANY = re.compile("|".join(WRONG), re.IGNORECASE)


def texts_of(path):
    """Line and text of every string that is neither a docstring nor a part of a larger one; values in it are {}."""
    tree = ast.parse(path.read_text())
    passed = {id(n.value) for n in ast.walk(tree) if isinstance(n, ast.Expr)}
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr):
            passed |= {id(part) for part in node.values}
            yield node.lineno, "".join(p.value if isinstance(p, ast.Constant) else "{}" for p in node.values)
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in passed:
            yield node.lineno, re.sub(r"\{[a-z_]\w*", "{", node.value)


def wrong_in(text):
    """What is wrong with a text; the nothing of identifiers, statements and patterns is not looked at."""
    if (
        not ANY.search(text)
        or " " not in text.strip()
        or text in KEYS
        or re.search(r"[\\^$]|\b(select|from|insert|create)\b.*\b(as|t|from|into)\b", text)
    ):
        return []
    return [f"{say!r} instead of {rule}" for rule, say in WRONG.items() if re.search(rule, text, re.IGNORECASE)]


def test_no_text_uses_a_phrase_of_the_list():
    found = [
        f"{path.relative_to(ROOT)}:{line}: {text!r}: {wrong}"
        for path in sorted(ROOT.rglob("*.py"))
        if path.parent.name != "tour"
        for line, text in texts_of(path)
        if (wrong := wrong_in(text))
    ]
    assert found == [], "\n".join(found)


@pytest.mark.parametrize(
    "text", ["x is none.", "{} is no column", "Take back changes", "b is there already", "the figures of x"]
)
def test_the_list_finds_what_it_is_for(text):
    assert wrong_in(text)
