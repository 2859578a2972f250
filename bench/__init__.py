"""Measurements of the whole application: starting, control to sound, memory. Not tests."""
