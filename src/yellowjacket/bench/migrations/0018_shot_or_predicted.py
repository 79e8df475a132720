"""Blind rounds that ask which of two pictures was really shot."""

from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('bench', '0017_colour_separation'),
    ]

    operations = [
        migrations.AddField(
            model_name='blindtrial',
            name='predicted',
            field=models.CharField(blank=True, default='', max_length=5),
        ),
        migrations.AlterField(
            model_name='blindround',
            name='kind',
            field=models.CharField(choices=[('line', 'where is my line'), ('pairs', 'which is better'), ('higher', 'which is the higher ISO'), ('same', 'same or different'), ('real', 'which was really shot')], default='line', max_length=8),
        ),
    ]
