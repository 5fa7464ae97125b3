"""Pictures to judge by: sheets, lit views, comparisons."""
