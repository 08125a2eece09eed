"""Deliveries: the drawer that sets one up, and writing it beside the window."""
