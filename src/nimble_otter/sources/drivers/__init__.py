"""One file for each kind of server; each holds one object, DRIVER. Drivers do not import each other."""
