<script setup lang="ts">
import { LineChart, ScatterChart } from 'echarts/charts'
import {
  AriaComponent,
  GridComponent,
  LegendComponent,
  MarkAreaComponent,
  MarkLineComponent,
  TooltipComponent,
} from 'echarts/components'
import { use } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { computed } from 'vue'
import VChart from 'vue-echarts'
import type { QuotaView } from '../api/client'
import { colour, font, theme } from '../theme/theme'

use([
  LineChart,
  ScatterChart,
  GridComponent,
  LegendComponent,
  TooltipComponent,
  MarkLineComponent,
  MarkAreaComponent,
  AriaComponent,
  SVGRenderer,
])

// Every call as a mark: along the time axis, and as high as calls were admitted
// in the window that ends with it; without a window, as ran when it came.
const props = defineProps<{ view: QuotaView; label: string }>()

/** The next round number. */
function nice(n: number): number {
  if (n < 10) return Math.ceil(n)
  const step = 10 ** Math.floor(Math.log10(Math.max(n, 1))) / 2
  return Math.ceil(n / step) * step
}

const option = computed(() => {
  void theme.value // colours follow the theme
  const v = props.view
  const ink = colour('ink')
  const faint = colour('faint')
  const line = colour('line')
  const mill = colour('mill')
  const refused = colour('T')
  const kind = (c: (typeof v.calls)[number]) => (!c.ok ? 'refused' : c.waited ? 'waited' : 'admitted')
  const marks = (name: string, color: string, symbol: string, hollow: boolean) => ({
    name,
    type: 'scatter' as const,
    symbol,
    symbolSize: 7,
    data: v.calls.filter((c) => kind(c) === name).map((c) => [c.at, c.begun]),
    itemStyle: hollow ? { color: 'transparent', borderColor: color, borderWidth: 1.5 } : { color },
  })
  const last = v.calls[v.calls.length - 1]?.at ?? 1
  const first = v.calls.findIndex((c) => !c.ok)
  const from = v.calls[0]?.at ?? 0
  const lines = [
    ...(v.limit
      ? [{ yAxis: v.limit, name: `declared ${v.limit}`, lineStyle: { color: ink, type: 'dashed' as const } }]
      : []),
    ...(v.ceiling > 0 && v.ceiling !== v.limit
      ? [{ yAxis: v.ceiling, name: `ceiling ${v.ceiling}`, lineStyle: { color: faint, type: 'dotted' as const } }]
      : []),
  ]
  return {
    animation: false,
    aria: { enabled: true, label: { description: props.label } },
    textStyle: { fontFamily: font.value, color: ink },
    legend: {
      top: 0,
      left: 0,
      textStyle: { color: ink, fontSize: 12 },
      itemWidth: 10,
      itemHeight: 8,
      data: ['admitted', 'waited', 'refused'],
    },
    tooltip: {
      trigger: 'item' as const,
      backgroundColor: colour('sheet'),
      borderColor: line,
      textStyle: { color: ink, fontSize: 12 },
      formatter: (p: { seriesName?: string; data: unknown }) => {
        const [x, y] = p.data as [number, number]
        return `${p.seriesName}, at ${x.toFixed(3)} s; ${y} ${v.window ? 'admitted in the window' : 'running'}`
      },
    },
    grid: { left: 40, right: 18, top: 34, bottom: 34 },
    xAxis: {
      type: 'value' as const,
      min: 0,
      max: Math.max(last * 1.03, 0.01),
      name: 'seconds',
      nameLocation: 'middle' as const,
      nameGap: 20,
      nameTextStyle: { color: faint },
      axisLine: { lineStyle: { color: line } },
      splitLine: { show: false },
      axisLabel: { color: faint, fontSize: 11, showMaxLabel: false, formatter: (n: number) => String(+n.toFixed(2)) },
    },
    yAxis: {
      type: 'value' as const,
      min: 0,
      max: (m: { max: number }) => nice(Math.max(2, m.max, v.ceiling > 0 ? v.ceiling : 0, v.limit ?? 0) * 1.04),
      minInterval: 1,
      splitLine: { lineStyle: { color: line } },
      axisLabel: { color: faint, fontSize: 11 },
    },
    series: [
      {
        ...marks('admitted', mill, 'circle', false),
        markLine: {
          silent: true,
          symbol: 'none',
          label: { formatter: '{b}', color: ink, position: 'insideStartTop' as const, fontSize: 11 },
          data: lines,
        },
        markArea:
          v.windowFound && first > 0
            ? {
                silent: true,
                itemStyle: { color: mill, opacity: 0.08 },
                label: { color: faint, fontSize: 11, position: 'insideBottom' as const },
                data: [[{ name: 'window found', xAxis: from }, { xAxis: from + v.windowFound }] as [object, object]],
              }
            : undefined,
      },
      marks('waited', mill, 'diamond', true),
      marks('refused', refused, 'path://M0 0L8 8M8 0L0 8', true),
    ],
  }
})
</script>

<template>
  <VChart
    class="chart"
    :option="option"
    :init-options="{ renderer: 'svg' }"
    autoresize
    role="img"
    :aria-label="label"
  />
</template>

<style scoped>
.chart {
  height: 230px;
  width: 100%;
}
</style>
