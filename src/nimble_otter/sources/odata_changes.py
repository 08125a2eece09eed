"""Changes of entities as requests to an OData service (OASIS OData 4.01, part 1, 11.4 and 11.7): each carries the ETag
of what was read, so that nobody's change is written over; several go as one change set, which is done whole or not at
all."""

from __future__ import annotations

import base64
import email
import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING
from urllib.parse import quote, urljoin

from nimble_otter.errors import AuthError, LostError, QueryError, SourceError
from nimble_otter.sources.odata import DECLARED, EntitySet, Property, text_literal
from nimble_otter.translation import tr
from nimble_otter.values import Value

if TYPE_CHECKING:
    from nimble_otter.sources.web_client import WebClient

_BATCH, _SET = "entities", "changes"
_LINE = "\r\n"


@dataclass(frozen=True, slots=True)
class Change:
    """`path` is behind the address of the service; `etag` of what is changed, "" for a new entity; `body` is JSON."""

    method: str
    path: str
    etag: str = ""
    body: str = ""

    @property
    def headers(self) -> dict[str, str]:
        """What goes with it."""
        typed = {"Content-Type": "application/json"} if self.body else {}
        return {**typed, **({"If-Match": self.etag} if self.etag else {}), "Prefer": "return=minimal"}


def added(table: EntitySet, row: Mapping[str, Value]) -> Change:
    """A new entity. What is NULL is left to the service. Raises: QueryError, where a value is not of its type."""
    return Change("POST", quote(table.name), "", _body(table, {n: v for n, v in row.items() if v is not None}))


def changed(table: EntitySet, before: Mapping[str, Value], now: Mapping[str, Value], etag: str) -> Change | None:
    """What is other in an entity; None where nothing is. Raises: QueryError."""
    other = {name: value for name, value in now.items() if not _is_same(before[name], value)}
    return Change("PATCH", path_of(table, before), etag, _body(table, other)) if other else None


def removed(table: EntitySet, before: Mapping[str, Value], etag: str) -> Change:
    """An entity that is to go."""
    return Change("DELETE", path_of(table, before), etag)


def path_of(table: EntitySet, row: Mapping[str, Value]) -> str:
    """Where an entity is, by its key (part 2, 4.3.1)."""
    texts = [_key_literal(row[p.name], p) for name in table.key if (p := table.property(name)) is not None]
    inside = texts[0] if len(texts) == 1 else ",".join(f"{n}={t}" for n, t in zip(table.key, texts, strict=True))
    return f"{quote(table.name)}({inside})"


def _key_literal(value: Value, own: Property) -> str:
    text = json_text(value, own)
    if own.edm == "Edm.String":
        return quote(text_literal(str(value)), safe="'")
    return quote(json.loads(text) if text.startswith('"') else text, safe="")


def json_text(value: Value, own: Property) -> str:
    """A value of a table's as the service takes it, as JSON. Raises: QueryError, where it is not of the type."""
    try:
        return _json_text(value, own.edm)
    except (ValueError, TypeError, KeyError, InvalidOperation) as problem:
        kind = own.edm.removeprefix("Edm.")
        raise QueryError(
            tr("{own_name}: {value} is not of the type {kind}.", own_name=own.name, value=str(value)[:60], kind=kind),
            tr("Correct the value."),
        ) from problem


def _json_text(value: Value, edm: str) -> str:
    if value is None:
        return "null"
    if edm not in DECLARED:
        json.loads(value)
        return str(value)
    if edm == "Edm.Boolean":
        return {"0": "false", "1": "true"}[str(int(value))]
    if edm == "Edm.Binary":
        data = value if isinstance(value, bytes) else str(value).encode("utf-8", "surrogateescape")
        return f'"{base64.urlsafe_b64encode(data).decode("ascii")}"'
    if DECLARED[edm] == "integer":
        if Decimal(str(value)) != int(value):
            raise ValueError(value)
        return str(int(value))
    if edm == "Edm.Decimal":
        number = Decimal(str(value))
        if not number.is_finite():
            raise ValueError(value)
        return format(number, "f")
    if edm in ("Edm.Double", "Edm.Single"):
        real = float(value)
        return repr(real) if math.isfinite(real) else f'"{"NaN" if real != real else "INF" if real > 0 else "-INF"}"'
    if edm == "Edm.DateTimeOffset":
        return json.dumps(_moment(str(value)))
    text = json.dumps(str(value), ensure_ascii=False)
    text.encode()
    return text


def _moment(text: str) -> str:
    """A time with its zone, in the standard's form. Raises: ValueError."""
    import datetime as dt

    if dt.datetime.fromisoformat(text).tzinfo is None:
        raise ValueError(text)
    return text.replace(" ", "T", 1).replace("+00:00", "Z")


def _is_same(one: Value, other: Value) -> bool:
    return type(one) is type(other) and one == other


def _body(table: EntitySet, values: Mapping[str, Value]) -> str:
    parts = [
        f"{json.dumps(p.name)}: {json_text(values[p.name], p)}"
        for p in table.properties if p.name in values and not p.is_computed
    ]  # fmt: skip
    return "{" + ", ".join(parts) + "}"


# --- sending ---------------------------------------------------------------------------------------------------------


def takes_change_sets(client: WebClient, root: str) -> bool:
    """Whether a service takes several requests in one: asked with one that only reads."""
    inside = _LINE.join(["Content-Type: application/http", "Content-Transfer-Encoding: binary", "",
                         f"GET {root} HTTP/1.1", "Accept: application/json", "", ""])  # fmt: skip
    status, answer = _post_batch(client, root, f"--{_BATCH}{_LINE}{inside}{_LINE}--{_BATCH}--{_LINE}")
    return status == 200 and [status for status, _ in parts_of(answer)] == [200]


def send(client: WebClient, root: str, changes: Sequence[Change]) -> None:
    """Have changes made, all or none. Raises: QueryError, where the service refuses them: nothing was changed;
    LostError, where that is not known."""
    if len(changes) == 1:
        (only,) = changes
        url = urljoin(root, only.path)
        refused_by([(client.send(only.method, url, only.body.encode() or None, headers=only.headers), only)])
        return
    status, answer = _post_batch(client, root, batch_of(changes, root))
    if status >= 300:
        refused_by([((status, answer), changes[0])])
    parts = parts_of(answer)
    if len(parts) not in (1, len(changes)) or (len(parts) == 1 and parts[0][0] < 400):
        raise LostError(tr("The service did not tell what became of the changes."), tr("Look at what is there."))
    told = changes if len(parts) == len(changes) else [replace(changes[0], path=tr("One of the entities"))]
    refused_by(list(zip(parts, told, strict=True)))


def batch_of(changes: Sequence[Change], root: str) -> str:
    """One change set with them all (part 1, 11.7.7)."""
    lines = [f"--{_BATCH}", f"Content-Type: multipart/mixed; boundary={_SET}", ""]
    for number, change in enumerate(changes, 1):
        lines += [f"--{_SET}", "Content-Type: application/http", "Content-Transfer-Encoding: binary",
                  f"Content-ID: {number}", "", f"{change.method} {urljoin(root, change.path)} HTTP/1.1",
                  *(f"{name}: {value}" for name, value in change.headers.items()),
                  f"Content-Length: {len(change.body.encode())}", "", change.body]  # fmt: skip
    return _LINE.join([*lines, f"--{_SET}--", f"--{_BATCH}--", ""])


def _post_batch(client: WebClient, root: str, body: str) -> tuple[int, bytes]:
    headers = {"Content-Type": f"multipart/mixed; boundary={_BATCH}", "Accept": "multipart/mixed"}
    return client.send("POST", urljoin(root, "$batch"), body.encode(), headers=headers)


def parts_of(answer: bytes) -> list[tuple[int, bytes]]:
    """The status and the text of each answer in an answer of many parts; none where it has no such form."""
    mark = answer.lstrip().partition(b"\n")[0].strip()
    if not mark.startswith(b"--"):
        return []
    head = b'Content-Type: multipart/mixed; boundary="' + mark[2:] + b'"\r\n\r\n'
    results = []
    for part in email.message_from_bytes(head + answer).walk():
        if part.get_content_type() == "application/http":
            data = part.get_payload(decode=True)
            start, _, body = (data if isinstance(data, bytes) else b"").replace(b"\r\n", b"\n").partition(b"\n\n")
            words = start.split()
            if len(words) > 1 and words[1].isdigit():
                results.append((int(words[1]), body))
    return results


def refused_by(answers: Sequence[tuple[tuple[int, bytes], Change]]) -> None:
    """Raises: QueryError, where the service refused one in its words; AuthError; LostError, where it failed."""
    for (status, data), change in answers:
        if 200 <= status < 300:
            continue
        said = _words(data)
        raise _refusal(status, change.path, f" {said}" if said else "")


def _refusal(status: int, path: str, said: str) -> SourceError:
    if status in (401, 403):
        return AuthError(
            tr("The service does not allow the change ({status}).{said}", status=status, said=said),
            tr("Ask who runs it for the right."),
        )
    if status == 412:
        return QueryError(
            tr("{path} was changed by somebody else meanwhile.", path=path), tr("Run the query again, and look.")
        )
    if status >= 500:
        return LostError(
            tr("The service failed with status {status}.{said}", status=status, said=said), tr("Look at what is there.")
        )
    return QueryError(tr("{path} was refused by the service ({status}).{said}", path=path, status=status, said=said))


def _words(data: bytes) -> str:
    """What the service says to an error."""
    try:
        told = json.loads(data.decode("utf-8-sig"))["error"]["message"]
    except (ValueError, KeyError, TypeError, RecursionError):
        return ""
    text = " ".join(str(told.get("value", "") if isinstance(told, dict) else told).split())[:300]
    return f"{text.rstrip('.')}." if text else ""
