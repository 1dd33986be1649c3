"""The causes of the catalogue, a folder for each of the groups A to F."""
