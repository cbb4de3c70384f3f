import type { Schemas } from '../api/client';

export type Hours = Schemas['WeeklyHours'];

export const DAYS: Schemas['Day'][] = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'];

/** Times of the week as a person reads them: "sat sun 22:00–04:00; daily 02:00–03:00". */
export function hoursWords(hours: Hours[] | null | undefined): string {
  return (hours ?? []).map(({ days, from, until }) => `${days?.length ? days.join(' ') : 'daily'} ${from}–${until}`).join('; ');
}
