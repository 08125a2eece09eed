"""The query: its drawer as text and in pieces, parameters, plans, transactions, moving steps upstream."""
