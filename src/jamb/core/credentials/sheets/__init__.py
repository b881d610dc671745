"""Connection sheets: what an integrator must type, in every form, as itself and for people."""
