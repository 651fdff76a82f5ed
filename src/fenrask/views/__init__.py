"""What users see: pages of tables in several formats, and figures. No arithmetic, no decisions."""
