"""Decisions and calculations: values in, values out. No I/O, no clock, no random source, no framework."""
