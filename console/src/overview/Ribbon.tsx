import Box from '@mui/material/Box';
import { useTheme } from '@mui/material/styles';
import { type KeyboardEvent, useLayoutEffect, useRef, useState } from 'react';
import { useNavigate } from 'react-router';
import type { Schemas } from '../api/client';
import { both, listOf } from '../lists/filter';
import { count, statusWords } from '../words/words';
import { type Mark, ribbonMarks, tickShape } from './ribbonLayout';

const HEIGHT = 50;
/** Ticks stand apart as long as there is room for it. */
const WIDEST_TICK = 28;

/** A thin tick per node, the most severe status first, linked to the node. Keys: arrows, Home, End, Enter. */
export function Ribbon({ ticks, statuses, filter }: { ticks: Schemas['Tick'][]; statuses: Schemas['StatusCount'][]; filter: string }) {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(1_000);
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const observer = new ResizeObserver(() => setWidth(element.clientWidth || 1_000));
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  const nodes = statuses.reduce((sum, status) => sum + status.nodes, 0);
  const marks = ribbonMarks(ticks, statuses, Math.min(width, Math.max(120, nodes * WIDEST_TICK)));
  const open = (mark: Mark | undefined) => {
    if (mark) void navigate(mark.name ? `/nodes/${encodeURIComponent(mark.name)}` : listOf(both(filter, `node.status == "${mark.status}"`)));
  };
  const onKeyDown = (event: KeyboardEvent) => {
    const last = marks.length - 1;
    const to = { ArrowRight: Math.min(last, at + 1), ArrowLeft: Math.max(0, at - 1), Home: 0, End: last }[event.key];
    if (to !== undefined) {
      event.preventDefault();
      setAt(to);
    } else if (event.key === 'Enter') {
      open(marks[at]);
    }
  };
  const current = marks[Math.min(at, marks.length - 1)];
  return (
    <Box ref={box} sx={{ mb: 1.5 }}>
      <Box
        component="svg"
        width={width}
        height={HEIGHT}
        role="listbox"
        aria-label={`${count(nodes, 'node')} by status, the most severe first`}
        aria-activedescendant={current ? 'ribbon-mark' : undefined}
        tabIndex={0}
        onKeyDown={onKeyDown}
        sx={{ display: 'block', '& g': { cursor: 'pointer' }, '&:not(:focus-visible) .here': { display: 'none' } }}
      >
        {marks.map((mark, number) => (
          <TickMark key={mark.name ?? mark.status} mark={mark} isHere={mark === current} onOpen={() => open(mark)} onPoint={() => setAt(number)} />
        ))}
      </Box>
    </Box>
  );
}

function TickMark({ mark, isHere, onOpen, onPoint }: { mark: Mark; isHere: boolean; onOpen: () => void; onPoint: () => void }) {
  const colours = useTheme().vars?.palette.status;
  const { height, leans, isDotted } = tickShape(mark.status);
  const name = mark.name
    ? `${mark.name}: ${statusWords(mark.status)}${mark.late ? ', late' : ''}`
    : `${count(mark.nodes, 'node')}: ${statusWords(mark.status)}`;
  const middle = mark.left + mark.width / 2;
  const thin = mark.name ? Math.max(1, Math.min(2.5, mark.width * 0.6)) : mark.width - 1;
  return (
    <g role="option" id={isHere ? 'ribbon-mark' : undefined} aria-selected={isHere} aria-label={name} onClick={onOpen} onMouseEnter={onPoint}>
      <title>{name}</title>
      <rect x={mark.left} y={0} width={mark.width} height={HEIGHT} fill="transparent" />
      <line
        x1={middle}
        x2={leans ? middle + 5 : middle}
        y1={2}
        y2={height}
        stroke={colours?.[mark.status]}
        strokeWidth={thin}
        strokeDasharray={isDotted ? `${Math.max(1.5, thin)} 3` : undefined}
      />
      {mark.late && <path d={`M${middle + 2} 3 l4 2.5 l-4 2.5 z`} fill={colours?.[mark.status]} />}
      {isHere && <rect className="here" x={mark.left - 1} y={0.5} width={mark.width + 2} height={HEIGHT - 1} fill="none" stroke="currentColor" />}
    </g>
  );
}
