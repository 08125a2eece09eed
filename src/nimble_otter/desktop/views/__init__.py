"""One file for each view. Views read an OpenPull and call it; they do not know each other."""
