import { toCsv } from './csv';

test('cells with commas, quotes and lines are quoted, and none begins a formula', () => {
  const rows = [
    ['kiosk-auken-1', 'role=kiosk, "old"', 'a\nb'],
    ['=1+1', '@SUM(A1)', '-'],
  ];
  expect(toCsv(['Node', 'Labels', 'Note'], rows)).toBe(`Node,Labels,Note\r\nkiosk-auken-1,"role=kiosk, ""old""","a\nb"\r\n'=1+1,'@SUM(A1),'-\r\n`);
});
