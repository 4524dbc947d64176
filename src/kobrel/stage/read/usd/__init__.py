"""Scenes from USD: usda, usdc, usd and usdz."""
