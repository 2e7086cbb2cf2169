<script setup lang="ts">
// All pages, one below the other, where they have no room in a line.
defineProps<{ pages: { to: string; name: string }[]; here: (to: string) => boolean }>()
const open = defineModel<boolean>({ required: true })
</script>

<template>
  <section>
    <el-drawer v-model="open" direction="ltr" size="240" title="Pages">
      <nav aria-label="All pages">
        <router-link v-for="p in pages" :key="p.to" :to="p.to" :class="{ here: here(p.to) }" :aria-current="here(p.to) ? 'page' : undefined" @click="open = false">{{ p.name }}</router-link>
      </nav>
    </el-drawer>
  </section>
</template>

<style scoped>
nav {
  display: grid;
}
a {
  padding: 9px 8px;
  text-decoration: none;
  color: var(--ink);
  border-left: 3px solid transparent;
}
.here {
  font-weight: 600;
  border-left-color: var(--amber);
}
</style>
