"""Files from elsewhere, read in a throwaway process with limits on bytes, memory and seconds."""
