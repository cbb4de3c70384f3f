select r.plan, r.status, r.reached, r.next_change, r.accepted, w.settling_since, r.ended_at is null as is_open
    from rollout r left join rollout_wave w on w.rollout = r.change and w.wave = r.reached where r.change = $1 for update of r
