"""What stands inside a partition, read over `Sectors`: so over an image, a capture's ranges, and a linked machine
alike."""
