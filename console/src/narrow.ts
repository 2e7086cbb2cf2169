// On a narrow screen a row of a table is a card: what stands in it goes one below the other, each with the name of its
// column in front (style.css). Element Plus has the names in the head of the table alone.
const narrow = window.matchMedia('(max-width: 640px)')
const app = document.querySelector('#app')!
let waits = false

function label() {
  waits = false
  for (const table of app.querySelectorAll('.el-table')) {
    const names = [...table.querySelectorAll('.el-table__header th')].map((th) => th.textContent.trim())
    for (const row of table.querySelectorAll<HTMLTableRowElement>('.el-table__body > tbody > tr')) {
      for (const [i, cell] of [...row.cells].entries()) {
        const name = /[a-z]/i.test(names[i] ?? '') ? names[i] : '' // a scale of years is no name
        if (cell.dataset.column !== name) cell.dataset.column = name
      }
    }
  }
}

function soon() {
  if (waits) return
  waits = true
  requestAnimationFrame(label)
}

// On a wide screen nobody asks.
const changes = new MutationObserver(soon)
function watch() {
  changes.disconnect()
  if (!narrow.matches) return
  changes.observe(app, { childList: true, subtree: true })
  soon()
}
narrow.addEventListener('change', watch)
watch()
