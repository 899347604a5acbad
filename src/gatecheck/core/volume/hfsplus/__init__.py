"""HFS Plus: read only."""
