"""One file for each format; each holds one object, FORMAT. Formats do not import each other."""
