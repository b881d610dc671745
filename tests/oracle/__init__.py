"""A slow judge of the audit: every rule written again from the words of docs/audit-rules.md, and estates to try it on."""
