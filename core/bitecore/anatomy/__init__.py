"""What the shape says: jaw or not, upper or lower, which way it faces, where the occlusal plane lies."""
