"""The desk's files: loading, checking, and saying exactly where something is wrong."""
