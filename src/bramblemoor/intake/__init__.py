"""Taking pictures in from a card, a phone's folders, or any folder: looked at, planned, agreed to, and then done."""
