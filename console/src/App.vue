<script setup lang="ts">
import { computed, defineAsyncComponent, nextTick, ref, watch } from 'vue'
import { useEventListener } from '@vueuse/core'
import { useRoute, useRouter } from 'vue-router'
import { client, sessionEnded, told } from './api'
import { language } from './language'
import { connected, listen, queries, stopListening } from './live'
import Finder from './parts/Finder.vue'
import Trouble from './parts/Trouble.vue'
import { useSession } from './role'
import { dark, switchTheme } from './theme'

const route = useRoute()
const router = useRouter()
const signingIn = computed(() => route.name === 'sign-in')

const session = useSession(() => !signingIn.value && route.name !== undefined)

// A session that ended leads to signing in, and back to where one was.
function leave() {
  if (signingIn.value || route.name === undefined) return
  const to = route.fullPath
  stopListening()
  void router.replace({ name: 'sign-in', query: { to } })
}
useEventListener(window, sessionEnded, leave)
watch(session.data, (s) => s && listen(), { immediate: true })

const pages = [
  { to: '/', name: 'Overview' },
  { to: '/hosts', name: 'Hosts' },
  { to: '/drift', name: 'Drift' },
  { to: '/policy', name: 'Policy' },
  { to: '/changes', name: 'Changes' },
  { to: '/rollouts', name: 'Rollouts' },
  { to: '/repositories', name: 'Repositories' },
  { to: '/keys', name: 'Keys' },
  { to: '/contracts', name: 'Contracts' },
  { to: '/audit', name: 'Audit' },
  { to: '/people', name: 'People' },
  { to: '/settings', name: 'Settings' },
]

const here = (to: string) => (to === '/' ? route.path === '/' : route.path.startsWith(to) || (to === '/repositories' && route.name === 'whence'))

// On a telephone they are a list, which is fetched when somebody opens it.
const PageList = defineAsyncComponent(() => import('./parts/PageList.vue'))
const listed = ref(false)
const opened = ref(false)
const list = () => (listed.value = opened.value = true)

// Where the pages do not fit into a line, the one that is open is in sight.
const line = ref<HTMLElement>()
watch([() => route.path, line], async () => {
  await nextTick()
  const a = line.value?.querySelector<HTMLElement>('.here')
  if (a && line.value) line.value.scrollLeft = a.offsetLeft - (line.value.clientWidth - a.offsetWidth) / 2
}, { flush: 'post' })

// A part of a page that is not there any more: an upgraded service has others. Nothing that somebody
// wrote is thrown away for it; they load the page again when they like.
const gone = ref(false)
const wanted = ref('') // the page that did not come
useEventListener(window, 'vite:preloadError', () => (gone.value = true))
router.onError((_, to) => (wanted.value = to.fullPath))
const reload = () => (wanted.value ? location.assign(wanted.value) : location.reload())

const trouble = ref<Error | null>(null)

async function signOut() {
  trouble.value = null
  try {
    await told(client.DELETE('/api/session'))
  } catch (e) {
    trouble.value = e as Error
    return
  }
  stopListening()
  queries.clear()
  await router.replace({ name: 'sign-in' })
}
</script>

<template>
  <el-config-provider :locale="language">
    <a v-if="!signingIn" class="skip" href="#page">To the page</a>
    <header v-if="!signingIn" class="bar">
      <router-link to="/" class="brand"><img src="/assets/lantern.svg" alt="" width="26" height="26" /><span class="name">Patient Lantern</span></router-link>
      <button class="thin list" aria-haspopup="dialog" @click="list">≡ {{ pages.find((p) => here(p.to))?.name ?? 'Pages' }}</button>
      <nav ref="line">
        <router-link v-for="p in pages" :key="p.to" :to="p.to" :class="{ here: here(p.to) }" :aria-current="here(p.to) ? 'page' : undefined">{{ p.name }}</router-link>
      </nav>
      <span class="rest">
        <Finder v-if="session.data.value" />
        <span v-if="!connected" class="lost" role="status">? nothing heard of the service; what you see may be old</span>
        <span v-else class="soft live" title="Pages change by themselves when something happens">● live</span>
        <el-button text size="small" :aria-label="dark ? 'Switch to light' : 'Switch to dark'" @click="switchTheme">{{ dark ? 'Light' : 'Dark' }}</el-button>
        <span v-if="session.data.value" class="soft who" :title="session.data.value.operator">{{ session.data.value.operator }}, {{ session.data.value.role }}</span>
        <el-button text size="small" :title="session.data.value ? `Signed in as ${session.data.value.operator}, ${session.data.value.role}` : undefined" @click="signOut">Sign out</el-button>
      </span>
    </header>
    <PageList v-if="opened" v-model="listed" :pages="pages" :here="here" />
    <p v-if="gone" class="gone card" role="alert">
      <span><b class="bad">✗ A part of the page did not come:</b> the service was upgraded meanwhile, or does not answer. What is here stays until you load it again.</span>
      <el-button size="small" type="primary" @click="reload">Load it again</el-button>
    </p>
    <Trouble class="told" :error="trouble" />
    <main id="page" tabindex="-1" :class="{ bare: signingIn }"><router-view v-if="signingIn || session.data.value" /></main>
  </el-config-provider>
</template>

<style scoped>
.bar {
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 0 16px;
  height: 52px;
  background: var(--card);
  border-bottom: 1px solid var(--line);
  position: sticky;
  top: 0;
  z-index: 20;
}
.brand {
  display: flex;
  align-items: center;
  gap: 10px;
  font-weight: 700;
  text-decoration: none;
  color: var(--ink);
}
nav {
  display: flex;
  gap: 1px;
  height: 100%;
}
nav a {
  display: flex;
  align-items: center;
  padding: 0 6px;
  font-size: 14px;
  white-space: nowrap;
  text-decoration: none;
  color: var(--soft);
  border-bottom: 3px solid transparent;
  border-top: 3px solid transparent;
}
nav a.here {
  color: var(--ink);
  font-weight: 600;
  border-bottom-color: var(--amber);
}
.rest {
  margin-left: auto;
  display: flex;
  align-items: center;
  gap: 8px;
  font-size: 13px;
  white-space: nowrap;
}
@media (max-width: 1500px) and (min-width: 1181px) {
  .name {
    position: absolute;
    clip-path: inset(50%);
    width: 1px;
    height: 1px;
    overflow: hidden;
  }
}
.gone {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  align-items: center;
  gap: 8px 20px;
  margin: 12px 24px 0;
  padding: 8px 14px;
}
.list {
  display: none;
  font-weight: 600;
}
.skip {
  position: absolute;
  left: -999px;
  z-index: 30;
  background: var(--card);
  padding: 6px 12px;
}
.skip:focus {
  left: 8px;
  top: 8px;
}
main:focus,
:deep(h1:focus) {
  outline: none;
}
.lost {
  color: var(--bad);
  font-weight: 600;
  max-width: 190px;
  line-height: 1.2;
  white-space: normal;
}
.who {
  max-width: 150px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.live {
  color: var(--good);
}
main {
  max-width: 1560px;
  margin: 0 auto;
  padding: 22px 24px 60px;
}
main.bare {
  padding-top: 12vh;
}
@media (max-width: 1180px) {
  .bar {
    flex-wrap: wrap;
    height: auto;
    gap: 4px 12px;
    padding: 8px 12px;
  }
  nav {
    order: 3;
    width: 100%;
    height: auto;
    position: relative;
    overflow-x: auto;
    scrollbar-width: none;
    mask-image: linear-gradient(to right, #000 calc(100% - 20px), transparent);
  }
  nav a {
    padding: 6px 10px;
  }
  .rest {
    white-space: normal;
    gap: 4px 10px;
  }
  main {
    padding: 14px 12px 40px;
  }
}
@media (max-width: 700px) {
  .bar nav {
    display: none;
  }
  .list {
    display: block;
  }
  .name,
  .who {
    position: absolute;
    clip-path: inset(50%);
    width: 1px;
    height: 1px;
    overflow: hidden;
  }
}
@media print {
  .bar {
    display: none;
  }
  main {
    max-width: none;
    padding: 0;
  }
}
</style>
