"""Where things of a plan are: stand-ins, anchors of subjects, and moves of cameras."""
