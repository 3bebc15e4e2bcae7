"""Pure algorithms on meshes."""
