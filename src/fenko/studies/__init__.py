"""What journals say: what is used and missed, how fast hands are, and where things would sit better. Heavy libraries; no running desk loads
any of this."""
