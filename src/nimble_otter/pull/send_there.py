"""The rows at the end of a pull's course, computed and written by its own server."""

from __future__ import annotations

from nimble_otter.pull.model import Pull
from nimble_otter.pull.whole_course import Whole, moved_whole, one_query
from nimble_otter.send.on_server import AskedThere, transfer_there
from nimble_otter.send.transfer import Moved, Transfer
from nimble_otter.sources import Connection
from nimble_otter.stop import NEVER, StopToken


def asked_of(whole: Whole) -> AskedThere:
    """The query of a whole course as its server is asked to write it. Raises: QueryError, ConditionError."""
    query = whole.moved.pull.query
    return AskedThere(one_query(query), query.bound().values, whole.fields)


def write_there(pull: Pull, connection: Connection, wanted: Transfer, stop: StopToken = NEVER) -> tuple[Moved, int]:
    """Have the server of a pull compute its whole course and write the rows to a table of its own; with how many
    columns. Raises: ConditionError, SendError, SourceError's, OutcomeUnknown, Stopped."""
    asked = asked_of(moved_whole(pull, connection, stop))
    return transfer_there(asked, connection, wanted, stop), len(asked.fields)
