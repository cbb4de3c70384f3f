import { Tabs } from '../shell/Tabs';

const PAGES = [
  { to: '/joining', name: 'Waiting' },
  { to: '/joining/invitations', name: 'Invitations' },
  { to: '/joining/rules', name: 'Admission rules' },
  { to: '/joining/decided', name: 'Decided' },
  { to: '/joining/retired', name: 'Retired' },
];

/** The pages of joining. */
export function JoiningTabs() {
  return <Tabs subject="Joining" pages={PAGES} />;
}
