"""What the firmware of a captured machine says: UEFI variables, boot entries, device paths, SMBIOS tables."""
