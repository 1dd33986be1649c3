"""The made-up scenario of the Fernhollow Seed Bank, built on the spot."""
