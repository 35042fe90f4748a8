"""What the trade knows, as tables: quantities, units, heaters, parts, order of work, complaints."""
