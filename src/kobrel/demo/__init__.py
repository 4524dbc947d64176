"""The demo: Night Ferry, a small jetty at dusk."""
