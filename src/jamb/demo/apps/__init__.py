"""Stand-ins of what is around Jamb: APIs, a mailbox, an application, a provider."""
