"""Overhead, Side and Front: where things stand, to scale."""
