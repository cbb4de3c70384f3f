/** A rate in hundredths of a percent, in words; a dash of nothing. */
export function rateWords(basisPoints: number | null | undefined): string {
  if (basisPoints === null || basisPoints === undefined) return '–';
  return basisPoints === 10_000 ? '100 %' : `${(basisPoints / 100).toFixed(2)} %`;
}
