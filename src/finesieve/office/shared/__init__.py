"""What all stages of the office share: who is here, the frame of the page, the sentence editor."""
