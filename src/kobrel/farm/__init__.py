"""Work of many frames, on this machine or on many: what is to be made, who makes it, and what was made."""
