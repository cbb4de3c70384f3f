import type { Schemas } from '../api/client';

/** The releases of each kit, kits by name, releases as they come: the newest first. */
export function byKit(releases: Schemas['PublishedRelease'][]): [string, Schemas['PublishedRelease'][]][] {
  const kits = new Map<string, Schemas['PublishedRelease'][]>();
  for (const release of releases) kits.set(release.kit, [...(kits.get(release.kit) ?? []), release]);
  return [...kits].sort(([one], [other]) => one.localeCompare(other));
}

/** Where a release is shown. */
export function releaseAddress({ kit, version }: { kit: string; version: string }): string {
  return `/kits/${encodeURIComponent(kit)}/${encodeURIComponent(version)}`;
}

/** Where a release is shown beside an earlier one. */
export function differencesOf(release: { kit: string; version: string }, from: { version: string }): string {
  return `${releaseAddress(release)}?from=${encodeURIComponent(from.version)}`;
}
