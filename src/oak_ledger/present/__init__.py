"""What people see: the terminal (`terminal`), figures (`figures`), pages (`page`). Draws what the core returns; computes nothing."""
