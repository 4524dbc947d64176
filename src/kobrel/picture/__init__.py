"""Images: rays through the lens, blur from a depth picture, developing for the screen."""
