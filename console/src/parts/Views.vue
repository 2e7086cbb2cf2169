<script setup lang="ts">
// Keeps the filters and order of a list under a name, and brings them back.
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { drop, keep, views } from '../views'

defineProps<{ size?: 'small' | 'default' }>()
const route = useRoute()
const router = useRouter()
const here = computed(() => views.value.filter((v) => v.path.split('?')[0] === route.path))
const name = ref('')
const asking = ref(false)

function save() {
  if (!name.value.trim()) return
  keep(name.value.trim(), route.fullPath)
  name.value = ''
  asking.value = false
}
</script>

<template>
  <el-popover v-model:visible="asking" trigger="click" :width="330" title="Views">
    <template #reference><el-button :size="size" aria-haspopup="dialog">Views<template v-if="here.length"> ({{ here.length }})</template></el-button></template>
    <div v-for="v in here" :key="v.name" class="row">
      <el-button text size="small" class="name" @click="((asking = false), router.push(v.path))">{{ v.name }}</el-button>
      <el-button text size="small" :aria-label="`Forget the view ${v.name}`" @click="drop(v.name)">Forget</el-button>
    </div>
    <form class="row" @submit.prevent="save">
      <el-input v-model="name" maxlength="60" placeholder="Name for what is shown now" aria-label="Name of the view" />
      <el-button native-type="submit" type="primary" :disabled="!name.trim()">Keep</el-button>
    </form>
    <p class="soft small">They stay in this browser. Ctrl-K finds them; the address is what you send to somebody.</p>
  </el-popover>
</template>

<style scoped>
.row {
  display: flex;
  gap: 8px;
  align-items: center;
  justify-content: space-between;
  padding: 3px 0;
}
.name {
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
