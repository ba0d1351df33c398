"""The legend's window while a control is held."""
