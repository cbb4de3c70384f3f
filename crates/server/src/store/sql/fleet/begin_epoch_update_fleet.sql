update fleet set rev = rev + 1, epoch = greatest(epoch, $1)
