"""Open Sound Control: messages and numbers."""
