select contents from installer where sha256 = $1
