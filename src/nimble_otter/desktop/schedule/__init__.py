"""Schedules and the account of deliveries: the page of both, and the page on which a schedule is made."""
