"""Colours and sizes of both themes: the one place they are written down."""

from __future__ import annotations

LIGHT = {
    "paper": "#F4F2EC", "surface": "#FFFFFF", "sunk": "#ECE9E0", "raised": "#FCFBF8",
    "ink": "#1D2B2F", "muted": "#4F5D61", "faint": "#657071", "line": "#D9D5C9", "grid_line": "#ECE9E0",
    "water1": "#17636C", "water2": "#2F8A93", "water3": "#BFDCDC", "water4": "#E4F0EF", "on_water": "#FFFFFF",
    "otter": "#8A5430",
    "amber": "#B97A10", "amber_ink": "#8A5A06", "amber_bg": "#FBF0D9",
    "sea": "#3C5AA6", "sea_bg": "#E6EBF8",
    "plum": "#7A3E63", "plum_bg": "#F5E6EE",
}  # fmt: skip
DARK = {
    "paper": "#16201F", "surface": "#1C2827", "sunk": "#111918", "raised": "#1F2C2B",
    "ink": "#E7E5DC", "muted": "#A3AFAD", "faint": "#8E9A98", "line": "#2E3C3A", "grid_line": "#263433",
    "water1": "#6FC3C9", "water2": "#3E969D", "water3": "#24484B", "water4": "#1D3436", "on_water": "#0F1716",
    "otter": "#D29B73",
    "amber": "#E5AE4B", "amber_ink": "#E5AE4B", "amber_bg": "#3A3018",
    "sea": "#8FA8E8", "sea_bg": "#222C47",
    "plum": "#D490B6", "plum_bg": "#3A2431",
}  # fmt: skip

UI_FONT, CODE_FONT = "Inter", "JetBrains Mono"
UI_PX, SMALL_PX, CODE_PX = 13, 11, 12
ROW, HEADER, TITLE, COURSE, STATUS, DRAWER_HEAD = 25, 41, 40, 74, 26, 34
