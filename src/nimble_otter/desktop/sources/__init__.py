"""Sources: the pane with their catalogues, the page of one, finding a value in all tables, a glance at a table."""
