"""The running desk: devices, focus, engine and outputs wired together."""
