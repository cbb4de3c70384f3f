import { screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { serve, show } from '../testing';
import { SignInPage } from './SignInPage';
import { WelcomePage } from './WelcomePage';

test('a wrong password is an error, and the input is kept', async () => {
  const asked = serve({ 'POST /api/sign-in': { status: 401, body: { type: 'wrong_password', title: 'the name or the password is wrong', status: 401 } } });
  show(<SignInPage />);
  await userEvent.type(screen.getByLabelText(/^Name/), 'ilse.maren');
  await userEvent.type(screen.getByLabelText(/^Password/), 'herring under the peer');
  await userEvent.click(screen.getByRole('button', { name: 'Sign in' }));
  expect((await screen.findByRole('alert')).textContent).toBe('the name or the password is wrong');
  expect(screen.getByLabelText<HTMLInputElement>(/^Password/).value).toBe('herring under the peer');
  expect(JSON.parse(asked[0]!.body)).toEqual({ name: 'ilse.maren', password: 'herring under the peer' });
});

test('two passwords that differ are not sent', async () => {
  const asked = serve({ 'POST /api/welcome/for': { body: { name: 'tor.havik' } } });
  show(<WelcomePage />);
  expect(await screen.findByText('Welcome, tor.havik')).toBeTruthy();
  await userEvent.type(screen.getByLabelText(/^Password/), 'herring under the pier');
  await userEvent.type(screen.getByLabelText(/^Repeat password/), 'herring');
  await userEvent.keyboard('{Enter}');
  expect(screen.getByText('the passwords differ')).toBeTruthy();
  expect(asked.map(({ path }) => path)).toEqual(['POST /api/welcome/for']);
});
