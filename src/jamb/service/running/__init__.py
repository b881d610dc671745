"""What runs beside the calls: records, retention, health, figures, logs."""
