"""SQL text as it stands: statements and their places, what they do, parameters, names in scope, how a dialect looks.
Read `statements.py` first."""
