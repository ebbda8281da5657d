"""What the user does, one module per task. Each loads, computes, keeps and reports."""
