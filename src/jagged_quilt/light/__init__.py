"""Light: suns and skies, and what leaves a surface towards the eye."""
