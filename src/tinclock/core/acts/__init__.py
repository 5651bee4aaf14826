"""What each kind of claim does once its checks have passed: the ray, the blow, the move, the repair."""
