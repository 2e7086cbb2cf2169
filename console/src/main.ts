import { createApp } from 'vue'
import { VueQueryPlugin } from '@tanstack/vue-query'
import 'element-plus/theme-chalk/base.css'
import 'element-plus/theme-chalk/dark/css-vars.css'
import './style.css'
import App from './App.vue'
import { queries } from './live'
import { router } from './router'
import './narrow'
import './theme'

createApp(App).use(router).use(VueQueryPlugin, { queryClient: queries }).mount('#app')
