"""Charts of the rows: the view, its drawer, what is picked in it, and how pictures leave."""
