"""Pictures on surfaces and all about the stage."""
