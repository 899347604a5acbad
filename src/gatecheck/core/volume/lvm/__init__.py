"""LVM: which logical volumes lie on a physical one, and where."""
