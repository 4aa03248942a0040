"""Which records mean the same, by all that is known of them."""
