update fleet set rev = rev + 1, epoch = greatest(epoch, $1), xid_epoch = greatest(xid_epoch + 1, $2)
