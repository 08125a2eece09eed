"""The window: how the parts stand and what listens to what. The one place that knows all features."""
