/** A moment as people read it, in their zone: the minute, with the day if that is not today, and the year if that is not this one. */
export function clock(at: string, now: Date = new Date()): string {
  const date = new Date(at);
  const isToday = date.toDateString() === now.toDateString();
  const time = date.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' });
  if (isToday) return time;
  const year = date.getFullYear() === now.getFullYear() ? undefined : ('numeric' as const);
  return `${date.toLocaleDateString('en-GB', { day: 'numeric', month: 'short', year })} ${time}`;
}

/** A whole time, with seconds and zone. */
export function exact(at: string): string {
  return new Date(at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'long' });
}

/** A span of seconds in its largest whole unit. */
export function span(secs: number): string {
  const whole = Math.max(0, Math.round(secs));
  if (whole < 120) return `${whole} s`;
  if (whole < 7_200) return `${Math.floor(whole / 60)} min`;
  if (whole < 172_800) return `${Math.floor(whole / 3_600)} h`;
  return `${Math.floor(whole / 86_400)} days`;
}

/** How long ago something was. A time from a node whose clock is ahead can be in the future. */
export function ago(at: string, now: number = Date.now()): string {
  const secs = (now - Date.parse(at)) / 1_000;
  return secs < -60 ? `${span(-secs)} in the future by the clock of the node` : `${span(secs)} ago`;
}

/** How far a node's clock is from the server's, to the minute. */
export function clockOff(secs: number): string {
  const off = Math.abs(secs);
  return `${span(off < 120 ? off : Math.round(off / 60) * 60)} ${secs < 0 ? 'behind' : 'ahead of'} the server's`;
}

/** A duration given in microseconds. */
export function took(micros: number): string {
  if (micros < 1_000) return `${micros} µs`;
  if (micros < 1_000_000) return `${Math.floor(micros / 1_000)} ms`;
  return `${(micros / 1_000_000).toFixed(1)} s`;
}
