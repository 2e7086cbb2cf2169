// The parts of Element Plus that pages use, for the checker of types. Its own list has rows of tables as anything, and
// refuses to be told what they are: a column that shows a field which no answer has stays empty, and nobody hears of it.
import type { ElTableColumn as Column } from 'element-plus'

type Row = { row: any; column: any; $index: number }

declare module 'vue' {
  export interface GlobalComponents {
    ElAlert: (typeof import('element-plus'))['ElAlert']
    ElButton: (typeof import('element-plus'))['ElButton']
    ElCheckbox: (typeof import('element-plus'))['ElCheckbox']
    ElCheckboxButton: (typeof import('element-plus'))['ElCheckboxButton']
    ElCheckboxGroup: (typeof import('element-plus'))['ElCheckboxGroup']
    ElConfigProvider: (typeof import('element-plus'))['ElConfigProvider']
    ElDatePicker: (typeof import('element-plus'))['ElDatePicker']
    ElDescriptions: (typeof import('element-plus'))['ElDescriptions']
    ElDescriptionsItem: (typeof import('element-plus'))['ElDescriptionsItem']
    ElDialog: (typeof import('element-plus'))['ElDialog']
    ElDrawer: (typeof import('element-plus'))['ElDrawer']
    ElEmpty: (typeof import('element-plus'))['ElEmpty']
    ElInput: (typeof import('element-plus'))['ElInput']
    ElOption: (typeof import('element-plus'))['ElOption']
    ElPagination: (typeof import('element-plus'))['ElPagination']
    ElPopconfirm: (typeof import('element-plus'))['ElPopconfirm']
    ElPopover: (typeof import('element-plus'))['ElPopover']
    ElProgress: (typeof import('element-plus'))['ElProgress']
    ElRadioButton: (typeof import('element-plus'))['ElRadioButton']
    ElRadioGroup: (typeof import('element-plus'))['ElRadioGroup']
    ElSelect: (typeof import('element-plus'))['ElSelect']
    ElSkeleton: (typeof import('element-plus'))['ElSkeleton']
    ElSwitch: (typeof import('element-plus'))['ElSwitch']
    ElTable: (typeof import('element-plus'))['ElTable']
    ElTableV2: (typeof import('element-plus'))['ElTableV2']
    ElTableColumn: typeof Column extends new (...given: infer G) => infer I
      ? new (...given: G) => Omit<I, '$slots'> & { $slots: { default?: (given: Row) => any; header?: (given: { column: any; $index: number }) => any } }
      : never
  }
}
