"""Query text: splitting it into statements, finding its parameters, parsing the conditions of local filters, and
turning SELECT over a collection into the document server's own request.

SQL is read by sqlglot; nothing here talks to a server or holds state, so any thread may call it. Read
`sql/statements.py` first, then `local/conditions.py` and `documents/translation.py`.
"""

from nimble_otter.query.documents.request import DocumentRequest
from nimble_otter.query.documents.translation import translate_select
from nimble_otter.query.local.conditions import parse_condition
from nimble_otter.query.sql.statements import (
    Statement,
    find_parameters,
    parameter_value,
    split_statements,
    statement_at,
)

__all__ = [
    "DocumentRequest",
    "Statement",
    "find_parameters",
    "parameter_value",
    "parse_condition",
    "split_statements",
    "statement_at",
    "translate_select",
]
