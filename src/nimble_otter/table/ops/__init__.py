"""What is done with tables: filters, sorts, groups, joins, windows, search, expressions.
Each gives a new table or view."""
