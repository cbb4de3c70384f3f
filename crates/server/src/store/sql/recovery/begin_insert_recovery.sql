insert into recovery (epoch, handed_out, since) values ($1, $2, $3) on conflict do nothing
