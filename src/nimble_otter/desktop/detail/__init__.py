"""The right pane: a cell, a record, a column, shapes of documents, and the ways out along keys."""
