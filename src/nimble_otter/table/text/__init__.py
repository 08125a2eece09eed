"""Values as text and back: forms of times that sources keep, what a cell shows, orders of alphabets, patterns."""
