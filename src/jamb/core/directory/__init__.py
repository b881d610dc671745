"""The directory itself: people, groups, roles, policy and ledger."""
