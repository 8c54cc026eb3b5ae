"""What people and other programs did in the library's folders, found and taken up."""
