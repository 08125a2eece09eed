"""A SELECT as pieces with their places, and changes of them as changes of the text. Read `model.py` first."""
