"""Help while a query is typed: what can come next, what is wrong, changes at a place. Read `completion.py` first."""
