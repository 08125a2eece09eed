"""What runs under the window: threads, connections to sources, what outlives the window. No widgets but for signals."""
