"""Where changes come from: kernel input devices, and takes that are played in their place."""
