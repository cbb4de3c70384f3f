import { Tabs } from '../shell/Tabs';

const PAGES = [
  { to: '/compliance', name: 'Figures' },
  { to: '/compliance/controls', name: 'Controls' },
  { to: '/compliance/concessions', name: 'Concessions' },
  { to: '/compliance/evidence', name: 'Evidence' },
];

/** The pages of compliance. */
export function ComplianceTabs() {
  return <Tabs subject="Compliance" pages={PAGES} />;
}
