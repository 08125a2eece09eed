"""What is pending: the drawer that shows its statements, rehearsing and writing them."""
