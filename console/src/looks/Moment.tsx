import { clock, exact } from '../words/time';

/** A moment: the minute, with the day if that is not today, and all of it where one points. */
export function Moment({ at, none = '–' }: { at?: string | null; none?: string }) {
  if (!at) return <>{none}</>;
  return (
    <time dateTime={at} title={exact(at)} style={{ whiteSpace: 'nowrap' }}>
      {clock(at)}
    </time>
  );
}
