select body from admission_machine where rule = $1 order by name collate "C"
