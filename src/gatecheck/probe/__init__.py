"""The program on the sick machine: one file that needs nothing but Python."""
