"""Files for other programs: what a build server or an editor reads."""
