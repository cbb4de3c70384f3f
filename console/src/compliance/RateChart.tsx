import Box from '@mui/material/Box';
import { useTheme } from '@mui/material/styles';
import Typography from '@mui/material/Typography';
import { ChartsReferenceLine } from '@mui/x-charts/ChartsReferenceLine';
import { LineChart } from '@mui/x-charts/LineChart';
import type { Schemas } from '../api/client';
import { changesOf, isMostlyHigh, rateRange } from './days';
import { rateWords } from './rate';

const rateOf = (rate: number | null) => (rate === null ? '–' : rateWords(Math.round(rate * 100)));

interface Shown {
  days: Schemas['ComplianceDays'];
  /** The day whose movement is shown. */
  chosen?: string;
  /** Whether the marks have the numbers of their changes; where there is little room they would overlap. */
  namesChanges?: boolean;
  onDay: (day: Schemas['ComplianceDay']) => void;
}

/** The rate at the end of each day, with a mark where a change gave nodes something else. A click on a day asks why it moved on it. */
export function RateChart({ days, chosen, namesChanges = true, onDay }: Shown) {
  const theme = useTheme();
  const { palette } = theme.vars ?? theme;
  const rates = days.days.map((day) => (day.rate_basis_points == null ? null : day.rate_basis_points / 100));
  const names = days.days.map((day) => day.day);
  const conceded = days.days.some(({ clauses }) => clauses.conceded > 0)
    ? days.days.map((day) => (day.rate_with_concessions_basis_points == null ? null : day.rate_with_concessions_basis_points / 100))
    : [];
  const [min, max] = rateRange([...rates, ...conceded]);
  const marked = [...changesOf(days)];
  const atBottom = isMostlyHigh(rates, [min, max]);
  return (
    <Box>
      <LineChart
        height={180}
        skipAnimation
        hideLegend
        margin={{ left: 0, right: 24, top: 12, bottom: 0 }}
        xAxis={[
          {
            data: names,
            scaleType: 'point',
            valueFormatter: (day: string) => day.slice(5),
            tickInterval: (_, at) => (days.days.length - 1 - at) % 5 === 0,
            height: 26,
          },
        ]}
        yAxis={[{ min, max, valueFormatter: (rate: number | null) => `${rate} %`, tickNumber: 4, width: 52 }]}
        series={[
          {
            data: rates,
            label: 'compliant, as found',
            color: palette.primary.main,
            curve: 'linear',
            showMark: true,
            valueFormatter: rateOf,
          },
          ...(conceded.length > 0
            ? [
                {
                  data: conceded,
                  label: 'with concessions',
                  color: palette.text.secondary,
                  curve: 'linear' as const,
                  showMark: false,
                  valueFormatter: rateOf,
                },
              ]
            : []),
        ]}
        grid={{ horizontal: true }}
        onAxisClick={(_, axis) => {
          const day = days.days[axis?.dataIndex ?? -1];
          if (day) onDay(day);
        }}
        aria-label={`Rate at the end of each of ${days.days.length} days`}
      >
        {marked.map(([day, changes]) => {
          const isLate = names.indexOf(day) > (names.length * 2) / 3;
          return (
            <ChartsReferenceLine
              key={day}
              x={day}
              label={!namesChanges ? undefined : changes.length > 2 ? `${changes.length} changes` : changes.map((change) => `C${change.no}`).join(' ')}
              labelAlign={atBottom ? 'end' : 'start'}
              spacing={isLate ? { x: -5, y: 5 } : 5}
              lineStyle={{ strokeDasharray: '2 3', stroke: palette.text.secondary }}
              labelStyle={{ fontSize: 12, fill: palette.text.secondary, textAnchor: isLate ? 'end' : 'start' }}
            />
          );
        })}
        {chosen && <ChartsReferenceLine x={chosen} lineStyle={{ stroke: palette.primary.main, strokeWidth: 2, opacity: 0.4 }} />}
      </LineChart>
      <Typography sx={{ fontSize: 13, color: 'text.secondary' }}>
        Clauses on nodes compliant, as found, at the end of each day in {days.zone}
        {conceded.length > 0 && '; grey: with concessions'}. {namesChanges ? 'C…' : 'Dotted'}: changes of what is desired. Click a day to see why the rate
        moved.
      </Typography>
    </Box>
  );
}
