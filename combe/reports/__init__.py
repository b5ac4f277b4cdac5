"""Reports for a design review: what was asked, chosen, reached and proved, of one filter or of a whole project."""
