"""Programs and windows."""
