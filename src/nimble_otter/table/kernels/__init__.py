"""What sorting, grouping and joining stand on: values as bits in their order, as numbers of their own, packed with
their places. Read `packing.py` first."""
