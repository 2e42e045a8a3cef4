<script setup lang="ts">
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useTheme } from 'vuetify'

import { api, told } from '../api/client'
import { useLoading } from '../loading'
import { aligned, bands, paired, withoutBegun, type Line, type Range, type Series } from '../readings'
import { useStyles } from '../stores/styles'
import { moment } from '../words'
import LineStyles from './LineStyles.vue'

/** A row: signals over time, or against another signal. The cursor stands at the same moment in all rows of a page; dragging
 * asks for that stretch anew, at a finer resolution; a double click goes back. Numbers are lines (each unit has its own axis),
 * states bands, text marks. */
const props = withDefaults(
  defineProps<{
    signals: string[]
    against?: string | null
    where: string
    by?: 'device' | 'version' | 'hw_rev' | 'ring'
    rollout?: number | null
    range: Range
    page: string
    height?: number
  }>(),
  { against: null, by: 'device', rollout: null, height: 210 },
)
const emit = defineEmits<{ zoom: [Range]; back: [] }>()
const place = ref<HTMLDivElement | null>(null)
const series = ref<Series[]>([])
const across = ref<Series | null>(null)
const naming = ref(false)
const theme = useTheme()
const styles = useStyles()
const MOST_LINES = 24
// What the service calls those that no ring has, or whose version is not known.
const NONE = '-'
const DOT = 4
// Of several devices together a bucket is as wide (pixels) that each has sent something in it.
const GROUP_WIDTH = 10
let plot: uPlot | null = null
let drawnAs = ''
// A page follows what comes in: what comes while somebody drags over a plot is drawn when they let go.
let dragged = false
let behind = false
let watching: ResizeObserver | null = null

async function ask(signal: string): Promise<Series> {
  const query = {
    signal,
    where: props.where || undefined,
    by: props.by,
    rollout: props.rollout ?? undefined,
    from: new Date(props.range.begin * 1000).toISOString(),
    to: new Date(props.range.end * 1000).toISOString(),
    points: Math.max(100, Math.round((place.value?.clientWidth || 800) / (props.by === 'device' ? 2 : GROUP_WIDTH))),
  }
  return (await told(api.GET('/api/v1/readings', { params: { query } }))) as Series
}
const { failure, reload } = useLoading(async () => {
  const names = [...props.signals, ...(props.against ? [props.against] : [])]
  const found = await Promise.all([...names.map(ask), styles.load()])
  const answers = found.slice(0, names.length) as Series[]
  across.value = props.against ? (answers.pop() ?? null) : null
  series.value = props.by === 'device' ? answers : answers.map(withoutBegun)
})
watch(() => [props.signals.join(), props.against, props.where, props.by, props.rollout, props.range.begin, props.range.end], reload)
watch([series, () => styles.all, () => theme.global.name.value], draw)
watch(() => props.height, fit)

const numbers = computed(() => series.value.filter((one) => one.kind === 'number'))
const words = computed(() =>
  series.value
    .filter((one) => one.kind !== 'number')
    .flatMap((told) => told.series.filter((one) => one.points.length).map((one) => ({ ...one, signal: told.signal, kind: told.kind }))),
)
const said = computed(() => [...new Set(words.value.flatMap((one) => one.points.map((point) => point.text ?? '')))].sort())
const drawn = computed(() => (across.value ? paired(numbers.value, across.value) : numbers.value.length ? aligned(numbers.value) : { data: [[]] as uPlot.AlignedData, lines: [] }))
const empty = computed(() => series.value.length > 0 && !drawn.value.lines.length && !words.value.length)
const of = computed(() => series.value.reduce((sum, one) => sum + one.series.length, 0))
const about = computed(() => {
  const first = series.value[0]
  if (!first) return ''
  const shown = drawn.value.lines.length + words.value.length
  const units = [...new Set(series.value.map((one) => one.unit).filter(Boolean))].join(', ')
  const more = drawn.value.lines.length > MOST_LINES ? `, the first ${MOST_LINES} drawn` : ''
  const level = first.kind !== 'number' || first.level === 'each' ? 'each value' : `kept of ${first.level}s`
  const steps = first.kind === 'number' ? `, in steps of ${first.step_s} s` : ''
  const cut = series.value.some((one) => one.cut) ? ' · more devices than are looked at' : ''
  return `${units ? `${units} · ` : ''}${shown} of ${of.value} lines${more} · ${level}${steps}${cut}`
})

function colour(at: number, count: number): string {
  const light = theme.global.current.value.dark ? 68 : 38
  return `hsl(${Math.round(205 + (360 * at) / Math.max(1, count)) % 360} 62% ${light}%)`
}
/** The same colour, nearly through; where many lie upon each other, more so. */
function faint(stroke: string, count: number): string {
  const alpha = count > 2 ? 0.07 : 0.16
  return stroke.startsWith('#') ? `${stroke}${Math.round(alpha * 255).toString(16).padStart(2, '0')}` : stroke.replace(')', ` / ${alpha})`)
}
function nameOf(line: { signal: string; key: string }): string {
  const plain = line.key === NONE ? `in no ${props.by === 'hw_rev' ? 'revision' : props.by}` : line.key
  const key = styles.of(line.signal, line.key).name ?? plain
  return props.signals.length > 1 ? `${line.signal} ${key}` : key
}
/** uPlot knows no scale without a name. */
function scaleOf(unit: string): string {
  return unit || 'y'
}
function worded(value: number | null | undefined, unit: string): string {
  return value === null || value === undefined ? '–' : `${Number(value.toPrecision(6))} ${unit}`
}

/** A time on the axis (UTC): the day where it is another than before, and of one day as much as its steps need. */
function stamp(at: number, before: number | undefined, apart: number): string {
  const text = new Date(at * 1000).toISOString()
  const day = text.slice(5, 10)
  if (apart >= 86_400) return day
  const hour = apart < 60 ? text.slice(11, 19) : text.slice(11, 16)
  const sameDay = before !== undefined && new Date(before * 1000).toISOString().slice(5, 10) === day
  return sameDay ? hour : `${hour}\n${day}`
}

/** The lines of a row over time, each with the band from its least to its most. */
function overTime(lines: Line[], strokes: string[]): { series: uPlot.Series[]; bands: uPlot.Band[] } {
  const made: uPlot.Series[] = [{ value: (_, at) => (at === null ? '–' : new Date(at * 1000).toISOString().slice(5, 19).replace('T', ' ')) }]
  const edges: uPlot.Band[] = []
  lines.forEach((line, at) => {
    const stroke = strokes[at] ?? ''
    const edge = { stroke: 'transparent', width: 0, points: { show: false }, label: '', class: 'edge', scale: scaleOf(line.unit) }
    const value = (_: uPlot, told: number | null) => worded(told, line.unit)
    made.push(edge, edge, { label: nameOf(line), stroke, width: 1.5, points: { show: undefined }, value, spanGaps: false, scale: scaleOf(line.unit) })
    edges.push({ series: [2 + 3 * at, 1 + 3 * at], fill: faint(stroke, lines.length) })
  })
  return { series: made, bands: edges }
}

/** Dots against another signal. */
function dots(lines: Line[], strokes: string[], unit: string): uPlot.Series[] {
  const value = (line: Line) => (_: uPlot, told: number | null) => worded(told, line.unit)
  const made = lines.map((line, at) => ({ label: nameOf(line), stroke: strokes[at], paths: () => null, points: { show: true, size: DOT, fill: strokes[at] }, value: value(line), scale: scaleOf(line.unit) }))
  return [{ label: props.against ?? '', value: (_, told) => worded(told, unit) }, ...made]
}

function draw() {
  behind = dragged
  if (dragged) return
  const { data, lines } = drawn.value
  const shown = lines.slice(0, MOST_LINES)
  const strokes = shown.map((line, at) => styles.of(line.signal, line.key).colour ?? colour(at, shown.length))
  const columns = data.slice(0, 1 + (across.value ? 1 : 3) * shown.length) as uPlot.AlignedData
  const looks = JSON.stringify([shown.map((line) => [nameOf(line), line.unit]), strokes, props.against, across.value?.unit, theme.global.name.value])
  if (plot && looks === drawnAs) {
    // The same lines further on: whoever points at them keeps their cursor.
    plot.setData(columns)
    return
  }
  plot?.destroy()
  plot = null
  drawnAs = looks
  if (!lines.length || !place.value) return
  const ink = theme.global.current.value.dark ? '#c9d1d9' : '#3c4650'
  const grid = { stroke: theme.global.current.value.dark ? '#ffffff14' : '#00000012', width: 1 }
  const times = (_: uPlot, splits: number[], __: number, ___: number, apart: number) => splits.map((at, number) => stamp(at, splits[number - 1], apart))
  const axis = { stroke: ink, grid, ticks: grid, font: '12px "Inter Variable", sans-serif' }
  const units = [...new Set(shown.map((line) => line.unit))]
  const upright = units.map((unit, number) => ({ ...axis, scale: scaleOf(unit), side: number === 0 ? 3 : 1, grid: number === 0 ? grid : { show: false }, label: unit, labelSize: 18, labelFont: axis.font, size: 62 }) as uPlot.Axis)
  const other = across.value
  const made = other ? { series: dots(shown, strokes, other.unit), bands: [] } : overTime(shown, strokes)
  const level = other ? { ...axis, label: `${other.signal} ${other.unit}`, labelSize: 18, labelFont: axis.font } : { ...axis, values: times }
  plot = new uPlot(
    {
      width: place.value.clientWidth,
      height: props.height,
      tzDate: (at) => uPlot.tzDate(new Date(at * 1000), 'Etc/UTC'),
      scales: { x: other ? { time: false } : { time: true, range: () => [props.range.begin, props.range.end] } },
      series: made.series,
      bands: made.bands,
      axes: [level, ...upright],
      cursor: {
        ...(other ? {} : { sync: { key: props.page } }),
        focus: { prox: 24 },
        drag: { x: !other, y: false, setScale: false },
        bind: { dblclick: () => () => { emit('back'); return null } },
      },
      focus: { alpha: 0.25 },
      legend: { show: true, live: true },
      hooks: {
        setSelect: [
          (self) => {
            if (other || self.select.width < 6) return
            const begin = self.posToVal(self.select.left, 'x')
            const end = self.posToVal(self.select.left + self.select.width, 'x')
            self.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false)
            emit('zoom', { begin, end })
          },
        ],
      },
    },
    columns,
    place.value,
  )
}
function letGo() {
  dragged = false
  if (behind) draw()
}

function fit() {
  if (plot && place.value && place.value.clientWidth > 0) plot.setSize({ width: place.value.clientWidth, height: props.height })
}
onMounted(() => {
  // The plot itself hears of it before the window does, and takes what was dragged over.
  window.addEventListener('mouseup', letGo)
  watching = new ResizeObserver(fit)
  if (place.value) watching.observe(place.value)
  draw()
})
onBeforeUnmount(() => {
  window.removeEventListener('mouseup', letGo)
  watching?.disconnect()
  plot?.destroy()
})
defineExpose({ reload })
</script>

<template>
  <section class="signal" :data-testid="`plot-${signals.join('+')}${against ? `-against-${against}` : ''}`">
    <div class="row head">
      <h3>{{ signals.join(', ') }}<template v-if="against"> against {{ against }}</template></h3>
      <span class="quiet">{{ about }}</span>
      <v-btn v-if="drawn.lines.length || words.length" size="x-small" variant="text" @click="naming = true">names and colours …</v-btn>
    </div>
    <v-alert v-if="failure" type="error" density="compact">{{ failure }}</v-alert>
    <p v-else-if="empty" class="quiet nothing">
      {{ against ? `Nothing came of both in this stretch.` : 'Nothing came in this stretch.' }} Is it listened to, or is it too early?
    </p>
    <div v-show="drawn.lines.length" ref="place" class="plot" @mousedown.left="dragged = true" />
    <div v-for="one in words" :key="`${one.signal} ${one.key}`" class="band">
      <span class="quiet who">{{ nameOf(one) }}</span>
      <span class="line">
        <template v-if="one.kind === 'text'">
          <span v-for="band in bands(one.points, range)" :key="band.left" class="tick" :style="{ left: `${band.left}%` }" :title="`${band.text} at ${moment(band.from)}`" />
        </template>
        <template v-else>
          <span
            v-for="band in bands(one.points, range)"
            :key="band.left"
            class="mark"
            :style="{ left: `${band.left}%`, width: `${band.width}%`, background: colour(said.indexOf(band.text), said.length) }"
            :title="`${band.text} from ${moment(band.from)}`"
          >{{ band.text }}</span>
        </template>
      </span>
      <span>{{ one.points[one.points.length - 1]?.text }}</span>
    </div>
    <LineStyles v-if="naming" :lines="[...drawn.lines, ...words]" @leave="naming = false" />
  </section>
</template>

<style scoped>
.signal {
  margin-bottom: 14px;
}
.head {
  gap: 12px;
  align-items: baseline;
}
.nothing {
  padding: 18px 0;
}
.plot {
  width: 100%;
  min-height: 60px;
}
.plot :deep(.u-legend) {
  text-align: left;
  font-size: 11px;
  line-height: 1.3;
}
.plot :deep(.u-legend .edge),
.plot :deep(.u-series.edge) {
  display: none;
}
.band {
  display: grid;
  grid-template-columns: 110px 1fr 140px;
  align-items: center;
  gap: 10px;
  min-height: 22px;
}
.line {
  position: relative;
  overflow: hidden;
  height: 18px;
  border-radius: 3px;
  background: rgb(128 128 128 / 12%);
}
.tick {
  position: absolute;
  width: 3px;
  height: 18px;
  background: currentcolor;
}
.mark {
  position: absolute;
  overflow: hidden;
  height: 18px;
  padding: 0 4px;
  border-radius: 3px;
  color: rgb(var(--v-theme-surface));
  font-size: 11px;
  line-height: 18px;
  white-space: nowrap;
}
</style>
