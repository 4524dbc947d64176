"""The campaign against loss, hangs and ends: damaged and hostile files, kills, random hands, changed code."""
