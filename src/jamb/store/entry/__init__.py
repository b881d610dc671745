"""Who comes in: admission, sessions, devices, tries."""
