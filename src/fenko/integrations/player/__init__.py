"""Media players (MPRIS)."""
