"""Gates: screening tests with one interface, and the line that walks them."""
