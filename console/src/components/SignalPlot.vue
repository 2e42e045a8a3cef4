<script setup lang="ts">
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useTheme } from 'vuetify'

import { api, told } from '../api/client'
import { aligned, bands, type Range, type Series } from '../readings'
import { useLoading } from '../loading'
import { moment } from '../words'

/** One signal over time. The cursor stands at the same moment in all plots of a page; dragging asks for that stretch anew,
 * at a finer resolution; a double click goes back. */
const props = defineProps<{
  signal: string
  where: string
  by?: 'device' | 'version' | 'hw_rev' | 'ring'
  rollout?: number | null
  range: Range
  page: string
}>()
const emit = defineEmits<{ zoom: [Range]; back: [] }>()
const place = ref<HTMLDivElement | null>(null)
const series = ref<Series | null>(null)
const theme = useTheme()
const HEIGHT = 210
const MOST_LINES = 24
let plot: uPlot | null = null
let watching: ResizeObserver | null = null

const { failure, reload } = useLoading(async () => {
  const query = {
    signal: props.signal,
    where: props.where || undefined,
    by: props.by ?? 'device',
    rollout: props.rollout ?? undefined,
    from: new Date(props.range.begin * 1000).toISOString(),
    to: new Date(props.range.end * 1000).toISOString(),
    points: Math.max(100, Math.round((place.value?.clientWidth ?? 800) / 2)),
  }
  series.value = (await told(api.GET('/api/v1/readings', { params: { query } }))) as Series
})
watch(() => [props.signal, props.where, props.by, props.rollout, props.range.begin, props.range.end], reload)
watch([series, () => theme.global.name.value], draw)

const words = computed(() => (series.value && series.value.kind !== 'number' ? series.value.series.filter((one) => one.points.length) : []))
const said = computed(() => [...new Set(words.value.flatMap((one) => one.points.map((point) => point.text ?? '')))].sort())
const empty = computed(() => series.value !== null && series.value.series.every((one) => !one.points.length))
const lines = computed(() => series.value?.series.filter((one) => one.points.length).length ?? 0)

function colour(at: number, of: number): string {
  const light = theme.global.current.value.dark ? 68 : 38
  return `hsl(${Math.round(205 + (360 * at) / Math.max(1, of)) % 360} 62% ${light}%)`
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

function draw() {
  const found = series.value
  plot?.destroy()
  plot = null
  if (!found || !place.value || found.kind !== 'number') return
  const { data, keys } = aligned(found)
  const shown = keys.slice(0, MOST_LINES)
  const ink = theme.global.current.value.dark ? '#c9d1d9' : '#3c4650'
  const grid = { stroke: theme.global.current.value.dark ? '#ffffff14' : '#00000012', width: 1 }
  const times = (_: uPlot, splits: number[], __: number, ___: number, apart: number) => splits.map((at, place) => stamp(at, splits[place - 1], apart))
  const axis = { stroke: ink, grid, ticks: grid, font: '12px "Inter Variable", sans-serif' }
  const drawn: uPlot.Series[] = [{ value: (_, at) => (at === null ? '–' : new Date(at * 1000).toISOString().slice(5, 19).replace('T', ' ')) }]
  const edges: uPlot.Band[] = []
  shown.forEach((key, at) => {
    const stroke = colour(at, shown.length)
    const edge = { stroke: 'transparent', width: 0, points: { show: false }, label: '', class: 'edge' }
    drawn.push(edge, edge)
    const value = (_: uPlot, told: number | null) => (told === null || told === undefined ? '–' : `${Number(told.toPrecision(6))} ${found.unit}`)
    drawn.push({ label: key, stroke, width: 1.5, points: { show: undefined }, value, spanGaps: false })
    edges.push({ series: [2 + 3 * at, 1 + 3 * at], fill: stroke.replace(')', ' / 0.16)') })
  })
  plot = new uPlot(
    {
      width: place.value.clientWidth,
      height: HEIGHT,
      tzDate: (at) => uPlot.tzDate(new Date(at * 1000), 'Etc/UTC'),
      scales: { x: { time: true, range: () => [props.range.begin, props.range.end] } },
      series: drawn,
      bands: edges,
      axes: [{ ...axis, values: times }, { ...axis, label: found.unit, labelSize: 18, labelFont: axis.font, size: 62 }],
      cursor: { sync: { key: props.page }, focus: { prox: 24 }, drag: { x: true, y: false, setScale: false }, bind: { dblclick: () => () => { emit('back'); return null } } },
      focus: { alpha: 0.25 },
      legend: { show: true, live: true },
      hooks: {
        setSelect: [
          (self) => {
            if (self.select.width < 6) return
            const begin = self.posToVal(self.select.left, 'x')
            const end = self.posToVal(self.select.left + self.select.width, 'x')
            self.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false)
            emit('zoom', { begin, end })
          },
        ],
      },
    },
    data.slice(0, 1 + 3 * shown.length) as uPlot.AlignedData,
    place.value,
  )
}

onMounted(() => {
  watching = new ResizeObserver(() => {
    if (plot && place.value && place.value.clientWidth > 0) plot.setSize({ width: place.value.clientWidth, height: HEIGHT })
  })
  if (place.value) watching.observe(place.value)
  draw()
})
onBeforeUnmount(() => {
  watching?.disconnect()
  plot?.destroy()
})
defineExpose({ reload })
</script>

<template>
  <section class="signal" :data-testid="`plot-${signal}`">
    <div class="row head">
      <h3>{{ signal }}</h3>
      <span v-if="series" class="quiet">
        {{ series.unit }} · {{ lines }} of {{ series.series.length }} lines<template v-if="lines > MOST_LINES">, the first {{ MOST_LINES }} drawn</template> ·
        <template v-if="series.kind !== 'number'">each value</template><template v-else>{{ series.level === 'each' ? 'each value' : `kept of ${series.level}s` }}, in steps of {{ series.step_s }} s</template><template v-if="series.cut"> · more devices than are looked at</template>
      </span>
    </div>
    <v-alert v-if="failure" type="error" density="compact">{{ failure }}</v-alert>
    <p v-else-if="empty" class="quiet nothing">Nothing came in this stretch. Is it listened to, or is it too early?</p>
    <div v-show="!empty && !words.length" ref="place" class="plot" />
    <div v-for="one in words" :key="one.key" class="band">
      <span class="quiet who">{{ one.key }}</span>
      <span class="line">
        <span
          v-for="band in bands(one.points, range)"
          :key="band.left"
          class="mark"
          :style="{ left: `${band.left}%`, width: `${band.width}%`, background: colour(said.indexOf(band.text), said.length) }"
          :title="`${band.text} from ${moment(band.from)}`"
        >{{ band.text }}</span>
      </span>
      <span>{{ one.points[one.points.length - 1]?.text }}</span>
    </div>
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
