"""SELECT over collections as a document server's own request. Read `translation.py` first."""
