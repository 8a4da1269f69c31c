"""What stands above and below every page: verdict, runs, remarks."""
