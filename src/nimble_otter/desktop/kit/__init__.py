"""What any feature draws with: sizes and colours, small widgets, commands, the editor with its helpers, dialogs.

Knows no pull and no source.
"""
