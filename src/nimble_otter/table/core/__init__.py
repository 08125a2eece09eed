"""Columns and tables, and building them from rows as they come. Read `columns.py` first."""
