"""An example of an integration: appends lines to a log file."""
