select * from release where kit = $1 and version = $2
