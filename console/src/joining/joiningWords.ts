import type { Schemas } from '../api/client';
import { clock } from '../words/time';
import { count } from '../words/words';

type Labels = Record<string, string>;

/** Labels as they are typed: `site=auken role=kiosk`; a value with spaces is in quotes. */
export function labelText(labels: Labels): string {
  return Object.entries(labels)
    .map(([key, value]) => `${key}=${/[\s"]/.test(value) ? JSON.stringify(value) : value}`)
    .join(' ');
}

/** The labels of what was typed, or what is wrong with it. */
export function typedLabels(text: string): { labels: Labels; wrong?: string } {
  const labels: Labels = {};
  for (const [word] of text.matchAll(/[^\s=]*=?(?:"(?:[^"\\]|\\.)*"|\S*)/g)) {
    if (word === '') continue;
    const at = word.indexOf('=');
    if (at < 1) return { labels, wrong: `“${word}” is no label: write site=auken` };
    const value = word.slice(at + 1);
    labels[word.slice(0, at)] = value.startsWith('"') ? unquoted(value) : value;
  }
  return { labels };
}

function unquoted(text: string): string {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}

/** What a machine says of itself, in one line. */
export function saysWords(about: Schemas['About']): string {
  const says = ['os.name', 'os.version', 'arch', 'init'].map((field) => about[field]).filter((value) => value !== undefined && value !== null);
  return says.length > 0 ? says.join(', ') : 'nothing reported';
}

/** Whose request it is. */
export function originWords(request: Schemas['JoiningRequest']): string {
  if (request.revoked_since) return `the revoked node of this name with its old key, revoked ${clock(request.revoked_since)}`;
  if (request.invited_by) return `invited by ${request.invited_by}`;
  return 'the node of this name with its old key, after its certificate ended';
}

/** What a node that joins is given. */
export function desiredWords(node: Schemas['ApprovedNode']): string {
  if (node.unusable) return `cannot be resolved: ${node.unusable}`;
  return node.clauses === undefined || node.clauses === null ? 'nothing' : count(node.clauses, 'clause');
}

/** Which machines a rule fits. */
export function conditionWords(rule: Schemas['AdmissionRule'], tableRows: number): string {
  const all = [
    rule.invitation && `the invitation ${rule.invitation}`,
    rule.names?.length && `a name of ${rule.names.join(', ')}`,
    rule.keys?.length && `one of ${count(rule.keys.length, 'key')}`,
    tableRows > 0 && `a table of ${count(tableRows, 'machine')}`,
  ];
  return all.filter(Boolean).join(', and ');
}

/** Where a rule places the machines that it lets in. */
export function placementWords(placement: Schemas['Placement']): string {
  const labels = labelText(placement.labels ?? {});
  const all = [
    labels && `labels ${labels}`,
    placement.mode && `mode ${placement.mode}`,
    ...(placement.assignments ?? []).map(({ kit, baseline }) => `baseline ${kit}/${baseline}`),
  ];
  return all.filter(Boolean).join(', ') || 'as their invitations and groups say';
}

/** A fingerprint in parts of eight digits, as the agent prints it. */
export function spaced(fingerprint: string): string {
  return fingerprint.replace(/(.{8})(?=.)/g, '$1 ');
}
