"""Judging pictures: how blurred they are, and what two of them differ in."""
