import type { Schemas } from '../api/client';
import { ago, exact, span } from './time';

/** A sentence of the server as text, with its times as this page writes them and ages as of `now`. */
export function write(sentence: Schemas['Sentence'], now: number): string {
  return sentence.map((part) => writePart(part, now)).join('');
}

/** The same, beginning with a capital letter. */
export function writeFirst(sentence: Schemas['Sentence'], now: number): string {
  const text = write(sentence, now);
  return text.charAt(0).toUpperCase() + text.slice(1);
}

function writePart(part: Schemas['SentencePart'], now: number): string {
  if ('text' in part) return part.text;
  if ('time' in part) return exact(part.time);
  if ('ago' in part) return ago(part.ago, now);
  if ('span' in part) return span((now - Date.parse(part.span)) / 1_000);
  const secs = (Date.parse(part.due) - now) / 1_000;
  return secs >= 0 ? `in ${span(secs)}` : `was due ${span(-secs)} ago`;
}
