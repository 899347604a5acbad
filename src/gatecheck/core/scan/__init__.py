"""Read maps: what a timed read of a surface says about the drive."""
