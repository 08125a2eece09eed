"""The grid: painting, model, selection, editing, copying, what is done to columns, finding, other views of the rows."""
