"""What a network is: frozen, typed values with no behaviour beyond their own consistency."""
