"""Where effects go: the kernel's virtual keyboard and pointer, the X server, or a listing."""
