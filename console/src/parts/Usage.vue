<script setup lang="ts">
// Seats used over time, a step for each change. The limit of a contract is said in
// its legend, which draws each line as it is.
import { LineChart } from 'echarts/charts'
import { GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { init, use, type ECharts } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { useResizeObserver } from '@vueuse/core'
import { onMounted, onUnmounted, ref, watch } from 'vue'
import type { Outlook } from '../api'
import { serviceNow } from '../now'
import { dark } from '../theme'

const props = defineProps<{ usage: Outlook['usage'] }>()
use([LineChart, GridComponent, LegendComponent, TooltipComponent, SVGRenderer])

const box = ref<HTMLElement>()
let chart: ECharts | undefined

function draw() {
  if (!chart) return
  const by = new Map<string, Outlook['usage']>()
  for (const u of props.usage) by.set(u.contract, [...(by.get(u.contract) ?? []), u])
  const css = getComputedStyle(document.documentElement)
  const colour = (name: string) => css.getPropertyValue(name).trim()
  const now = serviceNow()
  // Told apart by dash as well as by colour.
  const dashes = ['solid', 'dashed', 'dotted'] as const
  const tones = ['--amber', '--busy', '--good', '--bad']
  chart.setOption(
    {
      animation: false,
      grid: { left: 34, right: 18, top: 34, bottom: 26 },
      legend: { top: 0, left: 30, itemWidth: 34, itemHeight: 0, textStyle: { color: colour('--ink') } },
      tooltip: { trigger: 'axis' },
      xAxis: { type: 'time', axisLabel: { color: colour('--soft'), hideOverlap: true }, axisLine: { lineStyle: { color: colour('--line') } } },
      yAxis: { type: 'value', minInterval: 1, min: 0, axisLabel: { color: colour('--soft') }, splitLine: { lineStyle: { color: colour('--line') } } },
      series: [...by].map(([name, list], i) => {
        const last = list[list.length - 1]
        const tone = colour(tones[i % tones.length] ?? '--ink')
        return {
          name: last ? `${name}: ${last.seats_used}${last.seats ? ` of ${last.seats}` : ''}` : name,
          type: 'line',
          step: 'end',
          symbol: 'none', // so that the legend draws the line alone, dashes and all
          itemStyle: { color: tone },
          lineStyle: { color: tone, width: 2, type: dashes[i % dashes.length] },
          data: [...list.map((u) => [Date.parse(u.at), u.seats_used]), [now, last?.seats_used ?? 0]],
        }
      }),
    },
    true,
  )
}

useResizeObserver(box, () => chart?.resize())
onMounted(() => {
  if (!box.value) return
  chart = init(box.value, undefined, { renderer: 'svg' })
  draw()
})
onUnmounted(() => chart?.dispose())
watch([() => props.usage, dark], draw, { flush: 'post' })
</script>

<template>
  <div ref="box" class="usage" role="img" aria-label="Seats used over time, by contract" />
</template>

<style scoped>
.usage {
  height: 190px;
}
</style>
