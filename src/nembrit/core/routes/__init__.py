"""Ways of finding gains, each as a pure function of what was flown."""
