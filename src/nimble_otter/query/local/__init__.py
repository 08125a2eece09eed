"""The local language: conditions and expressions over the columns of a table, read into the nodes of
`table/ops/conditions.py`. Read `conditions.py` first."""
