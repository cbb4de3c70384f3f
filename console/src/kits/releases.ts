/** What a release is called. */
export function nameOf({ kit, version }: { kit: string; version: string }): string {
  return `${kit}@${version}`;
}

/** Where a release is shown. */
export function releaseAddress({ kit, version }: { kit: string; version: string }): string {
  return `/kits/${encodeURIComponent(kit)}/${encodeURIComponent(version)}`;
}

/** Where a release is shown beside an earlier one. */
export function differencesOf(release: { kit: string; version: string }, from: { version: string }): string {
  return `${releaseAddress(release)}?from=${encodeURIComponent(from.version)}`;
}
