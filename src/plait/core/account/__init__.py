"""What every operation tells: errors, findings, the ledger, names; and work side by side."""
