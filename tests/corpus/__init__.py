"""History files as they are commonly found, written from known bars, terms and schedules."""
