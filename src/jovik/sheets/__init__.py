"""What people write: sheets with their claims, readings, and the loads that a drive is to carry."""
