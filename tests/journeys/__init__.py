"""Long ways through the application, too long for every submission: ./bench journeys."""
