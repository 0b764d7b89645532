"""Broken files of our own making, thrown at every reader, at workshops and at the window."""
