"""What lies at a depot, as files: the bag, its line, its journal, earlier versions. Knows no ledger."""
