"""The heart: phrases, controls, gestures, plan and engine.

Nothing here opens a file, reads a clock or prints. Times are numbers of seconds that the caller brings.
"""
