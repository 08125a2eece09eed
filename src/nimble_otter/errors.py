"""Every way things go wrong, as types. Messages say what, where and what next; they hold no values of parameters
and no secrets."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar


class OtterError(Exception):
    """Base of everything a user can meet. `hint` says what to do next; `topic` is the section of the guide's page "When
    something goes wrong" that says more."""

    topic: ClassVar[str] = "Messages, log and reports"

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint

    def __str__(self) -> str:
        return f"{self.message} {self.hint}".strip()


class Stopped(Exception):
    """The user stopped the work. Not a failure, so it stands apart from OtterError."""


@dataclass(frozen=True, slots=True)
class Place:
    """A place in a text: line and column from 1, and the offsets of the marked part from 0."""

    line: int
    column: int
    start: int
    end: int


class SourceError(OtterError):
    """A source could not be reached or did not answer."""

    topic = "A source can't be reached"


class ConnectError(SourceError):
    """No connection: the file or host is not there, or is not what it should be."""


class AuthError(SourceError):
    """The server refused the name or password."""

    topic = "A password is asked for or refused"


class ClearPassword(AuthError):
    """The server asks for the password as it is over an open line, and it was not sent."""


class PasswordMissing(AuthError):
    """The server refused a user whose password is not known here."""


class LostError(SourceError):
    """The connection ended while working."""

    topic = "The connection was lost"


class SourceTimeout(SourceError):
    """The server did not answer in time."""


class QueryError(SourceError):
    """The query text is wrong, or the server refused it. `place` is where in the text, when known."""

    topic = "A query fails"

    def __init__(self, message: str, hint: str = "", place: Place | None = None) -> None:
        super().__init__(message, hint)
        self.place = place


class NotReading(QueryError):
    """A text that may write was kept from running where only reading is asked for."""


class ConditionError(OtterError):
    """A step can't be applied: unknown column, wrong type, wrong syntax. `place` is in the condition's text."""

    topic = "A condition or expression fails"

    def __init__(self, message: str, hint: str = "", place: Place | None = None) -> None:
        super().__init__(message, hint)
        self.place = place


class ChangeError(OtterError):
    """Changes can't be written."""

    topic = "A change is refused"


class NoKeyError(ChangeError):
    """Rows can't be told apart: no key, or the key is not in the result."""


class NoTransactions(ChangeError):
    """What is to be written can't be rolled back: the table or the server has no transactions."""


class ValueRefused(ChangeError):
    """A typed value doesn't fit its column."""


class OutcomeUnknown(ChangeError):
    """The connection was lost during a write; what was written must be read back."""

    topic = "Nobody knows whether it was written"


class SendError(OtterError):
    """A delivery failed; nothing half-written was left."""

    topic = "A delivery fails"


class ChecksFailed(SendError):
    """A delivery was held back, as lines of its checks fail."""


class SavedError(OtterError):
    """A file of ours can't be read or written."""

    topic = "A file can't be read or written"


class CorruptError(SavedError):
    """A file of ours is damaged. It is left (or set aside), never read as empty."""


class TooNewError(SavedError):
    """A file of ours was written by a newer version."""


def place_of(text: str, start: int, end: int | None = None) -> Place:
    """The place of `text[start:end]`; offsets are clipped to the text."""
    start = max(0, min(start, len(text)))
    line = text.count("\n", 0, start) + 1
    column = start - (text.rfind("\n", 0, start) + 1) + 1
    return Place(line, column, start, max(start, min(end if end is not None else start + 1, len(text))))
