"""Whether a statement reads, writes rows or changes what there is: told by its words, as a server may know more SQL
than any parser."""

from __future__ import annotations

from nimble_otter.query.scopes import tokens_of

READS, ROWS, DEFINES = "reads", "rows", "defines"
_WRITES = {"insert", "update", "delete", "merge", "replace", "call", "do", "exec", "execute", "load", "copy", "lock"}
_DEFINES = {
    "create", "drop", "alter", "truncate", "rename", "comment", "grant", "revoke", "reindex", "vacuum", "refresh",
    "reassign", "import", "set", "reset", "begin", "commit", "rollback", "attach", "detach",
}  # fmt: skip
_TABLES = {"create", "drop", "alter", "rename", "comment"}


def kind_of(text: str) -> str:
    """READS, ROWS (it writes rows, or calls what may) or DEFINES (tables, rights, settings)."""
    tokens = tokens_of(text)
    words = [(t.low, n) for n, t in enumerate(tokens) if t.kind == "word"]
    if not words:
        return READS
    first = words[0][0]
    if first == "explain":
        if not any(word == "analyze" for word, _ in words[:4]):
            return READS
        inner = next((n for word, n in words if word in _WRITES or word in ("with", "create")), None)
        return READS if inner is None else kind_of(text[tokens[inner].start :])
    if first == "with":
        inside = [w for w, n in words if n and tokens[n - 1].text in ("(", ")")]
        return ROWS if any(w in ("insert", "update", "delete", "merge") for w in inside) else READS
    if first == "select" and any(w == "into" for w, _ in words):
        return DEFINES
    return ROWS if first in _WRITES else DEFINES if first in _DEFINES else READS


def of_transaction(text: str) -> str:
    """ "begin", "commit" or "rollback" for a statement that only says that; else ""."""
    words = " ".join(t.low for t in tokens_of(text))
    if words in ("begin", "begin transaction", "begin work", "start transaction"):
        return "begin"
    if words in ("commit", "commit work", "commit transaction", "end", "end transaction"):
        return "commit"
    return "rollback" if words in ("rollback", "rollback work", "rollback transaction", "abort") else ""


def changes_catalogue(text: str) -> bool:
    """Whether tables or columns may be others after it."""
    tokens = tokens_of(text)
    return bool(tokens) and tokens[0].low in _TABLES


def lacks_where(text: str) -> bool:
    """Whether an UPDATE or DELETE means every row."""
    words = [t.low for t in tokens_of(text) if t.kind == "word"]
    return words[:1] in (["update"], ["delete"]) and "where" not in words
