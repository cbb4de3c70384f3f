import type { Schemas } from '../api/client';

/** The changes by the day at whose end they were first in the figures. */
export function changesOf(days: Schemas['ComplianceDays']): Map<string, Schemas['NamedChange'][]> {
  const byDay = new Map<string, Schemas['NamedChange'][]>();
  for (const change of days.changes) {
    const day = days.days.find(({ at }) => change.handed_out_at <= at);
    if (day) byDay.set(day.day, [...(byDay.get(day.day) ?? []), change]);
  }
  return byDay;
}

/** The part of the scale that is drawn: whole percents around what is there, never less than two. */
export function rateRange(rates: (number | null)[]): [number, number] {
  const known = rates.filter((rate) => rate !== null);
  if (known.length === 0) return [0, 100];
  const [min, max] = [Math.floor(Math.min(...known)), Math.ceil(Math.max(...known))];
  return max - min >= 2 ? [min, max] : [Math.max(0, max - 2), max === min && min < 2 ? 2 : max];
}

/** Whether most rates are in the upper half of a range: words beside them have room below. */
export function isMostlyHigh(rates: (number | null)[], [min, max]: [number, number]): boolean {
  const known = rates.filter((rate) => rate !== null);
  return known.filter((rate) => rate > (min + max) / 2).length > known.length / 2;
}

/** Hundredths of a percent as signed points. */
export function pointsWords(basisPoints: number): string {
  const sign = basisPoints > 0 ? '+' : basisPoints < 0 ? '−' : '';
  return sign + (Math.abs(basisPoints) / 100).toFixed(2);
}
