"""What everything reports with: errors, findings, the ledger, limits, names."""
