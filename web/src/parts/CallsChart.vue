<script setup lang="ts">
import { BarChart, LineChart } from 'echarts/charts'
import { AriaComponent, GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { computed } from 'vue'
import VChart from 'vue-echarts'
import type { Simulated } from '../api/client'
import { colour, font, theme } from '../theme/theme'
import { clock, span } from './time'

use([BarChart, LineChart, GridComponent, LegendComponent, TooltipComponent, AriaComponent, SVGRenderer])

// Above: what came of the calls of each stretch of time. Below: how many have
// begun so far, under the most that could have.
const props = defineProps<{ data: Simulated; label: string }>()

const longest = computed(() => props.data.width * props.data.bins.length)
const at = (s: number) => clock(s, longest.value)

const option = computed(() => {
  void theme.value // colours follow the theme
  const d = props.data
  const ink = colour('ink')
  const faint = colour('faint')
  const line = colour('line')
  const mill = colour('mill')
  const refused = colour('T')
  const limited = d.bins.every((b) => b.ceiling >= 0)
  let sum = 0
  const begun = d.bins.map((b) => (sum += b.began))
  const bar = (name: string, key: 'admitted' | 'queued' | 'refused', color: string, hatch?: string) => ({
    name,
    type: 'bar' as const,
    stack: 'calls',
    data: d.bins.map((b) => b[key]),
    itemStyle: {
      color,
      decal: hatch
        ? { symbol: 'rect', dashArrayX: [1, 0], dashArrayY: [2, 3], rotation: Math.PI / 4, color: hatch }
        : undefined,
    },
    barCategoryGap: '12%',
    emphasis: { disabled: true },
  })
  const axis = {
    type: 'category' as const,
    data: d.bins.map((b) => at(b.from)),
    axisLine: { lineStyle: { color: line } },
    axisTick: { show: false },
    axisLabel: { color: faint, fontFamily: font.value, fontSize: 11 },
  }
  const value = (name: string) => ({
    type: 'value' as const,
    name,
    minInterval: 1,
    nameTextStyle: { color: faint, align: 'left' as const, padding: [0, 0, 0, -28] },
    splitLine: { lineStyle: { color: line } },
    axisLabel: { color: faint, fontSize: 11 },
  })
  return {
    animation: false,
    aria: { enabled: true, label: { description: props.label } },
    textStyle: { fontFamily: font.value, color: ink },
    legend: { top: 0, right: 0, textStyle: { color: ink }, itemWidth: 14, itemHeight: 10 },
    tooltip: {
      trigger: 'axis' as const,
      backgroundColor: colour('sheet'),
      borderColor: line,
      textStyle: { color: ink, fontSize: 12 },
      axisPointer: { type: 'shadow' as const },
    },
    axisPointer: { link: [{ xAxisIndex: 'all' as const }] },
    grid: [
      { left: 44, right: 12, top: 42, height: 110 },
      { left: 44, right: 12, top: 206, height: 110 },
    ],
    xAxis: [
      { ...axis, gridIndex: 0, axisLabel: { show: false } },
      { ...axis, gridIndex: 1 },
    ],
    yAxis: [
      { ...value(`calls in ${span(d.width)}`), gridIndex: 0 },
      { ...value('begun so far'), gridIndex: 1 },
    ],
    series: [
      bar('admitted', 'admitted', mill),
      bar('waited', 'queued', `color-mix(in srgb, ${mill} 45%, ${colour('sheet')})`, mill),
      bar('refused', 'refused', refused, colour('sheet')),
      {
        name: 'begun',
        type: 'line' as const,
        xAxisIndex: 1,
        yAxisIndex: 1,
        step: 'end' as const,
        symbol: 'none',
        data: begun,
        lineStyle: { color: mill, width: 2 },
        itemStyle: { color: mill },
      },
      ...(limited
        ? [
            {
              name: 'ceiling',
              type: 'line' as const,
              xAxisIndex: 1,
              yAxisIndex: 1,
              symbol: 'none',
              data: d.bins.map((b) => b.ceiling),
              step: 'end' as const,
              lineStyle: { color: ink, width: 1.4, type: 'dashed' as const },
              itemStyle: { color: ink },
            },
          ]
        : []),
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
  height: 346px;
  width: 100%;
}
</style>
