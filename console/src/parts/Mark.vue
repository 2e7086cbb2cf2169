<script setup lang="ts">
// A state or severity: sign and word, in its tone.
defineProps<{ look: { sign: string; tone: string } | undefined; word: string }>()
</script>

<template>
  <span class="mark" :class="look?.tone ?? 'plain'"><span class="sign" aria-hidden="true">{{ look?.sign ?? '·' }}</span><span>{{ word }}</span></span>
</template>

<style scoped>
.mark {
  display: inline-flex;
  align-items: baseline;
  font-weight: 600;
  white-space: normal;
  text-align: left;
}
.sign {
  flex: none;
  min-width: 1.7em;
  margin-right: 0.1em;
  font-family: var(--mono);
}
</style>
