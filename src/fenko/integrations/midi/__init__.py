"""MIDI ports: messages that are sent, and controllers as surfaces."""
