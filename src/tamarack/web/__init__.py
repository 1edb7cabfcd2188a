"""What console and portal share: sign-in, forms, words and numbers, pictures, components."""
