"""A journey through everything, as a user would make it; run by the tests and for the pictures of the docs."""
