"""Moving house: compare, migrate, transfers."""
