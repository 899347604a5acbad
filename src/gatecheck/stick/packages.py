"""The packages of Debian that the stick is made of."""

from __future__ import annotations

KERNEL = "linux-image-amd64"
"""names the signed kernel"""
LIVE = (
    "busybox-static",
    "libc6",
    "libgcc-s1",
    "zlib1g",
    "libexpat1",
    "libssl3",
    "libbz2-1.0",
    "liblzma5",
    "libzstd1",
    "libffi8",
    "libcrypt1",
    "libuuid1",
    "libkmod2",
    "kmod",
    "python3.11-minimal",
    "libpython3.11-minimal",
    "libpython3.11-stdlib",
    "kbd",
    "console-setup-linux",
)
"""what runs on the sick machine: a shell, Python for the probe, modules loaded by what the machine has, a font that can
be read from a metre"""
STARTING = ("shim-signed", "shim-helpers-amd64-signed", "grub-efi-amd64-signed", "syslinux-common")
"""what firmware starts: signed loaders for UEFI, code for legacy firmware"""
