import Button from '@mui/material/Button';
import Tooltip from '@mui/material/Tooltip';
import { useState } from 'react';
import { Address } from './Address';

/** Copies the client command that shows the same as the page. */
export function CopiedCommand({ command }: { command: string }) {
  const [isCopied, setCopied] = useState(false);
  const copy = () => {
    void navigator.clipboard?.writeText(command).then(() => setCopied(true));
  };
  const word = isCopied ? 'copied' : 'Copy command';
  return (
    <Tooltip title={<Address>{command}</Address>} onOpen={() => setCopied(false)}>
      <Button variant="text" color="inherit" onClick={copy} aria-label={`${word}: ${command}`} sx={{ color: 'text.secondary', fontWeight: 400 }}>
        {word}
      </Button>
    </Tooltip>
  );
}
