<script setup lang="ts">
import Empty from '../parts/Empty.vue'
</script>

<template>
  <h1>There is no such page</h1>
  <Empty><router-link to="/">Go to the overview</router-link>, or find what you look for with <kbd>Ctrl K</kbd>.</Empty>
</template>
