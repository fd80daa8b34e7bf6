"""What every service stands on: who asks and in which workspace, long work, changes and taking them back."""
