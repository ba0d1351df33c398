"""Boards that speak the line protocol of docs/boards.md, on a serial line or a TCP port."""
