"""Moving house: a collection carried from one service to another, by a plan, and proven on arrival."""
