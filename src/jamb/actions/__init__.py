"""What an administrator does, one transaction each: load, ask core, write, enter in the ledger."""
