"""Local steps: the course above the grid and a drawer for each kind of step."""
