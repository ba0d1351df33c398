"""HTTP requests."""
