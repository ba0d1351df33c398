"""Volumes and mutes of the audio server (PulseAudio, PipeWire)."""
